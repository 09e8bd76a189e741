"""``young-marionette``: info, contacts, solve, retarget, match, rename, convert, filter, thin, adjust, mirror, retime, join, controls, batch, watch, words, completion, demo. Exit codes: 0 done, 1 a defect of ours, 2 bad input or usage, 3 some clips not delivered.

What a command needs is loaded by the command itself: telling a version, or what is wrong with the words, takes no time.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

from .. import __version__
from ..core.errors import InputError
from .console import forgiving_streams, print_json, say, tell_error

if TYPE_CHECKING:
    from argparse import Namespace

    from ..project.entry import Entry

_DEGREES = 5.0  # that joints of a thinned clip may be turned off, within a centimetre
_USD = (".usd", ".usda", ".usdc", ".usdz")


def read_source(asked: Namespace, path: Path) -> Entry:
    """The clip that a command reads, with its axes as they are asked for."""
    from .. import api

    skeleton = getattr(asked, "skeleton", None)
    return api.read(path, asked.clip, skeleton, asked.source_up, asked.source_facing)


def info(asked: Namespace) -> None:
    from ..project.opening import of_skeleton, open_recording, placed_as
    from . import report

    if (recording := open_recording(asked.file)) is not None:
        from . import markers

        if asked.as_json:
            print_json(markers.info(recording))
        else:
            markers.print_info(recording)
        return
    entries = [placed_as(e, asked.source_up, asked.source_facing) for e in of_skeleton(asked.file, asked.skeleton)]
    if asked.as_json:
        print_json(report.info(entries))
    else:
        report.print_info(entries)


def contacts(asked: Namespace) -> None:
    from . import report

    entry = read_source(asked, asked.file)
    if asked.as_json:
        print_json(report.contacts(entry))
    else:
        report.print_contacts(entry)


def solve(asked: Namespace) -> None:
    from . import markers

    markers.solve(asked)


def retarget(asked: Namespace) -> None:
    from .. import api
    from ..formats.files import check_free, check_results
    from ..formats.registry import check_writable
    from ..project import delivery
    from ..project import stringing as stringings
    from ..project.bakes import spanned
    from ..project.deviation import of_motion
    from ..project.shaping import Shape
    from . import report

    frames, out, saved, overwrite = range_of(asked.frames), asked.out, asked.save_stringing, asked.overwrite
    check_results([out, saved], [asked.source, asked.rig, asked.stringing, asked.controls])
    check_writable(out, overwrite)
    if saved:
        check_free(saved, overwrite)
    source, rig = read_source(asked, asked.source), api.read_rig(asked.rig)
    if asked.body:
        delivery.check_body(out, rig)
    take = api.retarget(
        source,
        rig,
        api.match(source, rig, asked.stringing),
        asked.fps,
        frames,
        root_bone=asked.root_bone,
        **transfer_changes(asked),
    )
    over = None
    if asked.onto_controls or asked.controls is not None:
        from .controls import way

        take, over = api.over_controls(take, asked.controls)
        over = way(*over)
    pairing, baked, more = take.pairing, take.clip, []
    if saved:
        more = stringings.encode(saved, stringings.to_file(pairing, source, rig, f"{source.name} to {rig.name}"))
    shape, inputs = (
        Shape(asked.root_bone, over="" if asked.over in (None, "keep") else asked.over),
        api.opening.inputs_of(source),
    )
    body = api.write(take, out, overwrite, asked.body is False, shape, more, inputs)
    clip, contacts = spanned(source, asked.fps, frames)
    off = of_motion(pairing, source, rig, clip, contacts, baked)
    if asked.as_json:
        told = report.retarget(source, rig, pairing, baked, out, off) | {"body": body}
        print_json(told | ({"controls": over} if over else {}))
        return
    report.print_retarget(source, rig, pairing, baked, out, off)
    say(report.body_words(out, rig, body))
    if over is not None:
        from .controls import print_way

        print_way(over)


def transfer_changes(asked):
    """What is asked for of a transfer, as settings."""
    from ..core.travel.settings import GROUND, parts_of

    changes = {name: value for name in ("feet", "hands", "start") if (value := getattr(asked, name)) is not None}
    if asked.in_place is not None:
        changes["in_place"] = parts_of(asked.in_place, GROUND)
    if asked.root is not None:
        changes["root"] = parts_of(asked.root)
    if asked.root_smooth is not None:
        if not 0 <= asked.root_smooth <= 60:
            raise InputError("--root-smooth has to be 0 to 60 seconds.")
        changes["root_smooth"] = asked.root_smooth
    if asked.ahead:
        changes["ahead"] = True
    return changes


def match(asked: Namespace) -> None:
    from .. import api
    from ..formats.files import check_free, check_results
    from ..project import opening
    from ..project import stringing as stringings
    from ..project.pairing import refuse_gaps
    from . import report

    out = asked.out
    if out:
        check_results([out], [asked.source, asked.rig])
        check_free(out, asked.overwrite)
    source, rig = (
        opening.placed_as(api.read_rig(asked.source), asked.source_up, asked.source_facing),
        api.read_rig(asked.rig),
    )
    pairing = api.match(source, rig)
    refuse_gaps(pairing, source, rig)
    if out:
        file = stringings.to_file(pairing, source, rig, f"{source.name} to {rig.name}")
        stringings.save(out, file, asked.overwrite)
    if asked.as_json:
        print_json(report.pairing_facts(source, rig, pairing))
    else:
        report.print_pairing(source, rig, pairing)
        if out:
            say(f"Wrote {out}")


def rename(asked: Namespace) -> None:
    from ..formats.files import check_results
    from ..formats.registry import check_writable
    from ..project import delivery, opening
    from . import report

    out = asked.out
    check_results([out], [asked.file, asked.names])
    check_writable(out, asked.overwrite)
    entry = opening.open_rig(asked.file)
    changed = delivery.renamed(entry, asked.names)
    delivery.write_entry(changed, out, asked.overwrite)
    pairs = [(a, b) for a, b in zip(entry.skeleton.names, changed.skeleton.names) if a != b]
    if asked.as_json:
        kept = [n for n in entry.skeleton.names if n in changed.skeleton.index]
        print_json({"out": str(out), "renamed": dict(pairs), "kept": kept, "notes": report.file_notes(entry)})
    else:
        for old, new in pairs:
            say(f"{old} → {new}")
        report.print_file_notes(entry)
        say(f"Wrote {out}: {len(pairs)} of {len(entry.skeleton)} bones renamed")


def convert(asked: Namespace) -> None:
    from ..project import delivery, opening
    from . import report

    metres = None if asked.unit is None else _unit(asked.unit)
    axis = None if asked.up is None else asked.up.upper().lstrip("+")
    if axis not in (None, "Y", "Z"):
        raise InputError(f"'{asked.up}' can't be up; give Y or Z.")
    frames = range_of(asked.frames)
    if (recording := opening.open_recording(asked.file)) is not None:
        from . import markers

        markers.convert(recording, asked, frames, metres, axis)
        return
    entry = opening.placed_as(
        opening.open_any(asked.file, asked.skeleton, asked.clip), asked.source_up, asked.source_facing
    )
    delivery.convert(entry, asked.out, asked.fps, frames, metres, axis, asked.body, asked.overwrite)
    if asked.as_json:
        print_json(
            {"in": str(asked.file), "out": str(asked.out), "clip": entry.name, "notes": report.file_notes(entry)}
        )
    else:
        report.print_file_notes(entry)
        say(f"Wrote {asked.out}")


def filter_motion(asked: Namespace) -> None:
    from .. import api
    from ..core.filters.motion import CHANNELS
    from ..formats.files import check_results
    from ..formats.registry import check_writable
    from ..project import cleaning
    from . import report

    methods = _methods(asked)  # none: what the window suggests
    channels = CHANNELS if asked.channels is None else tuple(asked.channels.split(","))
    if unknown := [name for name in channels if name not in CHANNELS]:
        raise InputError(f"'{unknown[0]}' is no kind of channel; give some of {','.join(CHANNELS)}.")
    frames = range_of(asked.frames)
    check_results([asked.out], [asked.file])
    check_writable(asked.out, asked.overwrite)
    entry = read_source(asked, asked.file)
    names = () if asked.joints is None else cleaning.names_like(entry, asked.joints)
    take = api.filter(
        api.take_of(entry), methods=methods, frames=frames, channels=channels, names=names, keep=asked.keep
    )
    done = cleaning.cleaned(take.passed)
    api.write(take, asked.out, asked.overwrite)
    if asked.as_json:
        print_json(report.cleaned(entry, done, asked.out))
    else:
        report.print_cleaned(entry, done, asked.out)


def _methods(asked):
    """The filters that were asked for, in the order in which they are run."""
    from ..core.filters.methods import AUTO, Adaptive, Gaussian, LowPass, Spikes

    methods = [Spikes()] if asked.spikes else []
    if asked.low_pass is not None:
        methods.append(LowPass(AUTO if asked.low_pass == AUTO else _positive(asked.low_pass, "cut-off", "hertz")))
    if asked.smooth is not None:
        auto = asked.smooth == AUTO
        methods.append(Adaptive() if auto else Gaussian(_positive(asked.smooth, "length of time", "seconds")))
    return methods


def thin(asked: Namespace) -> None:
    from .. import api
    from ..core.thinning.settings import CONTACTS, STAGES
    from ..formats.files import check_results
    from ..formats.registry import check_writable, ending_of
    from . import report

    stages = STAGES if asked.stage is None else tuple(asked.stage.split(","))
    if unknown := [name for name in stages if name not in STAGES]:
        raise InputError(f"'{unknown[0]}' is no stage of thinning; give some of {','.join(STAGES)}.")
    if asked.angle is None:
        # Who lets joints go farther does not mind how they are turned as much.
        asked.angle = min(max(_DEGREES * asked.within, _DEGREES), 4 * _DEGREES)
    places, degrees, weights = (_tolerance(getattr(asked, name), name) for name in ("within", "angle", "weights"))
    planted = asked.contacts
    if planted is None:
        # Without keys of its own, a contact asks for no other tolerance unless told to.
        planted = 0.3 if CONTACTS in stages else None
    planted = None if planted is None else _tolerance(planted, "contacts") / 100
    frames = range_of(asked.frames)
    check_results([asked.out], [asked.file])
    check_writable(asked.out, asked.overwrite)
    entry = read_source(asked, asked.file)
    take = api.thin(api.take_of(entry), places / 100, degrees, planted, weights, stages, frames)
    api.write(take, asked.out, asked.overwrite)
    method, keys = take.passed.passes[-1].method, ending_of(asked.out).curves
    if asked.as_json:
        print_json(report.thinned(entry, method, take, asked.out, keys))
    else:
        report.print_thinned(entry, method, take, asked.out, keys)


def _tolerance(value, name):
    """A tolerance above zero."""
    if not 0 < value < 1e6:
        raise InputError(f"--{name} has to be above zero.")
    return value


def adjust(asked: Namespace) -> None:
    from . import edits

    edits.adjust(asked)


def mirror(asked: Namespace) -> None:
    from . import edits

    edits.mirror(asked)


def retime(asked: Namespace) -> None:
    from . import edits

    edits.retime(asked)


def join(asked: Namespace) -> None:
    from . import edits

    edits.join(asked)


def batch(asked: Namespace) -> int:
    from . import batch as batches

    return batches.run(asked)


def watch(asked: Namespace) -> int:
    from . import batch as batches

    return batches.watch(asked)


def completion(asked: Namespace) -> None:
    import shtab

    from .arguments import made_parser

    print(shtab.complete(made_parser(), asked.shell))


def words(asked: Namespace) -> None:
    from ..project import own_words as known

    if asked.add:
        part, *more = asked.add
        file = known.add(part, more)
    else:
        file = known.forget(asked.forget) if asked.forget else known.load()
    if asked.as_json:
        print_json(
            {"file": str(known.words_path()), **file.model_dump(mode="json", include={"left", "right", "parts"})}
        )
        return
    rows = [(what, of) for what, of in (("left", file.left), ("right", file.right), *file.parts.items()) if of]
    for what, of in rows:
        say(f"{what}: {', '.join(of)}")
    say(f"{'Kept in' if rows else 'No words of your own yet; they are kept in'} {known.words_path()}")


def demo(asked: Namespace) -> None:
    from ..demo.example import play
    from .tables import PlainConsole

    play(asked.out, PlainConsole())


def controls(asked: Namespace) -> None:
    from . import controls as telling

    telling.controls(asked)


_EDITS = adjust, mirror, retime, join
COMMANDS = {
    run.__name__: run
    for run in (
        info,
        contacts,
        solve,
        retarget,
        match,
        rename,
        convert,
        thin,
        *_EDITS,
        controls,
        batch,
        watch,
        words,
        completion,
        demo,
    )
}
COMMANDS["filter"] = filter_motion


def _positive(text, what, unit):
    """A number above zero."""
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0 < value < 1e6:
        raise InputError(f"'{text}' is no {what}; give {unit} above zero, or auto.")
    return value


def _unit(text):
    """Metres per unit of a unit's short name."""
    from ..core.units import METRES

    if text.lower() not in METRES:
        raise InputError(f"'{text}' is not a known unit; use one of {', '.join(METRES)}.")
    return METRES[text.lower()]


def range_of(text):
    """Frames from ``A:B``, or None."""
    if text is None:
        return None
    first, colon, last = text.partition(":")
    if not (colon and first.isascii() and first.isdigit() and last.isascii() and last.isdigit()) or int(first) > int(
        last
    ):
        raise InputError(f"'{text}' is not a range; give the first and the last frame as A:B, such as 0:120.")
    return int(first), int(last)


def main(arguments=None):
    """Run the command line and return its exit code; every expected failure is one sentence on stderr."""
    forgiving_streams()
    words = list(map(str, sys.argv[1:] if arguments is None else arguments))
    try:
        return _run(words)
    except InputError as error:
        return _refused(str(error))
    except KeyboardInterrupt:
        return _refused("Stopped.")
    except BrokenPipeError:
        return 0
    except MemoryError:
        return _refused("There is not enough memory for this.")
    except Exception as error:
        import traceback

        from ..project.log import log_defect, log_path

        log_defect("on the command line", error)
        place = traceback.extract_tb(error.__traceback__)[-1]
        tell_error(
            f"Internal error: {type(error).__name__}: {error} ({Path(place.filename).name}, line {place.lineno}; "
            f"details are in {log_path()})."
        )
        return 1


def _run(words):
    if any(Path(word).suffix.lower() in _USD for word in words):
        from ..formats.usd_process import PROCESS

        # It loads its library while this process loads what it needs itself.
        PROCESS.prepare()
    from .arguments import parsed

    try:
        asked, parser = parsed(words)
    except SystemExit as done:  # after the help that was asked for
        return done.code
    if asked.version:
        print(f"Young Marionette {__version__}")
    elif asked.command is None:
        parser.print_help()
    else:
        from ..project.words import use

        if asked.command not in ("words", "completion") and (trouble := use()):
            tell_error(trouble)
        return COMMANDS[asked.command](asked) or 0
    return 0


def _refused(sentence):
    tell_error(sentence)
    return 2


if __name__ == "__main__":
    sys.exit(main())
