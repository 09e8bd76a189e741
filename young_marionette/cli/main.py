"""``young-marionette``: info, retarget, match, rename, convert, demo. Exit codes: 0 done, 1 a defect of ours, 2 bad input or usage."""

from __future__ import annotations

import logging
import sys
import traceback
from pathlib import Path
from typing import Annotated

import typer

from .. import __version__
from ..core.errors import InputError
from ..core.text import shown
from ..core.units import METRES
from ..formats.usd_process import PROCESS
from .console import PlainConsole, forgiving_streams, print_json, tell_error

_USD = (".usd", ".usda", ".usdc", ".usdz")
app = typer.Typer(
    add_completion=False, rich_markup_mode=None, help="Bring motion from any skeleton onto your own rigs."
)
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON instead of tables.")]
SkeletonName = Annotated[
    str | None, typer.Option("--skeleton", help="Which skeleton of a file with several, by its root's name.")
]
ClipName = Annotated[str | None, typer.Option("--clip", help="Which clip of a file with several, by its name.")]
WithBody = Annotated[
    bool | None, typer.Option("--with-body/--without-body", help="Write meshes and skin too, or motion alone.")
]


@app.command()
def info(
    file: Annotated[Path, typer.Argument(help="A motion or a skeleton.")],
    skeleton: SkeletonName = None,
    as_json: AsJson = False,
):
    """Tell what a file holds: skeleton, joints, rate, frames, length, unit, axes, rest pose, body, facing, oddities."""
    from ..project.opening import of_skeleton
    from . import report

    entries = of_skeleton(file, skeleton)
    if as_json:
        print_json(report.info(entries))
    else:
        report.print_info(PlainConsole(), entries)


@app.command()
def retarget(
    source: Annotated[Path, typer.Argument(help="The motion.")],
    rig: Annotated[Path, typer.Argument(help="Any file with a skeleton.")],
    out: Annotated[Path, typer.Option("--out", help="The file to write; its ending tells the format.")],
    stringing: Annotated[Path | None, typer.Option("--stringing", help="A saved stringing to use.")] = None,
    save_stringing: Annotated[
        Path | None, typer.Option("--save-stringing", help="Where to save the stringing that was used.")
    ] = None,
    fps: Annotated[
        float | None, typer.Option("--fps", help="Frames per second of the result; its length stays.")
    ] = None,
    frames: Annotated[
        str | None, typer.Option("--range", metavar="A:B", help="Frames A to B of the source, both included, from 0.")
    ] = None,
    in_place: Annotated[bool, typer.Option("--in-place", help="Keep the hips over one spot.")] = False,
    clip: ClipName = None,
    body: WithBody = None,
    overwrite: Annotated[bool, typer.Option("--overwrite", help="Overwrite existing files.")] = False,
    as_json: AsJson = False,
):
    """Carry the motion of SOURCE onto RIG: tie, match, transfer, bake, write."""
    from dataclasses import replace

    from ..formats.files import check_free, check_results
    from ..formats.registry import check_writable
    from ..project import delivery, opening
    from ..project import stringing as stringings
    from . import report

    chosen = _range(frames)
    check_results([out, save_stringing], [source, rig, stringing])
    check_writable(out, overwrite)
    if save_stringing:
        check_free(save_stringing, overwrite)
    source_entry, rig_entry = opening.open_source(source, clip=clip), opening.open_rig(rig)
    pairing = delivery.pair_files(source_entry, rig_entry, stringing)
    if in_place:
        pairing = replace(pairing, settings=replace(pairing.settings, in_place=True))
    more = []
    if save_stringing:
        name = f"{source_entry.name} to {rig_entry.name}"
        more = stringings.encode(save_stringing, stringings.to_file(pairing, source_entry, rig_entry, name))
    baked = delivery.retarget(source_entry, rig_entry, pairing, out, fps, chosen, overwrite, bool(body), more)
    if as_json:
        print_json(report.retarget(source_entry, rig_entry, pairing, baked, out))
    else:
        report.print_retarget(PlainConsole(), source_entry, rig_entry, pairing, baked, out)


@app.command()
def match(
    source: Annotated[Path, typer.Argument(help="The motion, or its skeleton.")],
    rig: Annotated[Path, typer.Argument(help="Any file with a skeleton.")],
    out: Annotated[Path | None, typer.Option("--out", help="The stringing file to write.")] = None,
    overwrite: Annotated[bool, typer.Option("--overwrite", help="Replace a file that exists.")] = False,
    as_json: AsJson = False,
):
    """Tie and match SOURCE and RIG, say how sure that is and what is left, and save the stringing."""
    from ..formats.files import check_free, check_results
    from ..project import delivery, opening
    from ..project import stringing as stringings
    from . import report

    if out:
        check_results([out], [source, rig])
        check_free(out, overwrite)
    source_entry, rig_entry = opening.open_rig(source), opening.open_rig(rig)
    pairing = delivery.pair_files(source_entry, rig_entry)
    delivery.refuse_gaps(pairing, source_entry, rig_entry)
    if out:
        stringings.save(
            out,
            stringings.to_file(pairing, source_entry, rig_entry, f"{source_entry.name} to {rig_entry.name}"),
            overwrite,
        )
    if as_json:
        print_json(report.pairing_facts(source_entry, rig_entry, pairing))
    else:
        report.print_pairing(PlainConsole(), source_entry, rig_entry, pairing)
        if out:
            PlainConsole().print(f"Wrote {out}")


@app.command()
def rename(
    file: Annotated[Path, typer.Argument(help="A motion or a skeleton.")],
    names: Annotated[str, typer.Option("--names", help="vrm, h-anim, or a file whose skeleton has the names.")],
    out: Annotated[Path, typer.Option("--out", help="The file to write.")],
    overwrite: Annotated[bool, typer.Option("--overwrite", help="Replace a file that exists.")] = False,
    as_json: AsJson = False,
):
    """Give the bones of FILE the names of a convention or of another rig; the motion stays as it is."""
    from ..formats.files import check_results
    from ..formats.registry import check_writable
    from ..project import delivery, opening

    check_results([out], [file, names])
    check_writable(out, overwrite)
    entry = opening.open_rig(file)
    changed = delivery.renamed(entry, names)
    delivery.write_entry(changed, out, overwrite)
    pairs = [(a, b) for a, b in zip(entry.skeleton.names, changed.skeleton.names) if a != b]
    if as_json:
        kept = [n for n in entry.skeleton.names if n in changed.skeleton.index]
        print_json({"out": str(out), "renamed": dict(pairs), "kept": kept})
    else:
        for old, new in pairs:
            PlainConsole().print(f"{old} → {new}")
        PlainConsole().print(f"Wrote {out}: {len(pairs)} of {len(entry.skeleton)} bones renamed")


@app.command()
def convert(
    file: Annotated[Path, typer.Argument(metavar="IN", help="A motion, or a character.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="The file to write; its ending tells the format.")],
    fps: Annotated[
        float | None, typer.Option("--fps", help="Frames per second of the result; its length stays.")
    ] = None,
    frames: Annotated[
        str | None, typer.Option("--range", metavar="A:B", help="Frames A to B, both included, from 0.")
    ] = None,
    unit: Annotated[str | None, typer.Option("--unit", help="m, cm, mm, in, ft or dm: the unit of the result.")] = None,
    up: Annotated[str | None, typer.Option("--up", help="Y or Z: the axis that is up in the result.")] = None,
    body: WithBody = None,
    skeleton: SkeletonName = None,
    clip: ClipName = None,
    overwrite: Annotated[bool, typer.Option("--overwrite", help="Replace a file that exists.")] = False,
    as_json: AsJson = False,
):
    """Write what IN holds in another format; motion, timing and names stay unless asked otherwise."""
    from ..project import delivery, opening

    entry = opening.open_any(file, skeleton, clip)
    metres = None if unit is None else _unit(unit)
    axis = None if up is None else up.upper().lstrip("+")
    if axis not in (None, "Y", "Z"):
        raise InputError(f"'{up}' can't be up; give Y or Z.")
    delivery.convert(entry, out, fps, _range(frames), metres, axis, body, overwrite)
    if as_json:
        print_json({"in": str(file), "out": str(out), "clip": entry.name})
    else:
        PlainConsole().print(f"Wrote {out}")


@app.command()
def demo(out: Annotated[Path, typer.Option("--out", help="The folder for the show's files.")] = Path("quillmouth")):
    """Play the full example on the demo show: read, tie, match, transfer, bake, write, and a short report."""
    from ..demo.example import play

    play(out, PlainConsole())


@app.callback(invoke_without_command=True)
def _options(
    context: typer.Context, version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False
):
    if version:
        raise typer.Exit(_version())
    if context.invoked_subcommand is None:
        print(context.get_help())


def _version():
    print(f"Young Marionette {__version__}")
    return 0


def _unit(text):
    """Metres per unit of a unit's short name."""
    if text.lower() not in METRES:
        raise InputError(f"'{text}' is not a known unit; use one of {', '.join(METRES)}.")
    return METRES[text.lower()]


def _range(text):
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
    arguments = sys.argv[1:] if arguments is None else list(arguments)
    if arguments == ["--version"]:
        return _version()  # at once, without what the reading of options takes to load
    if any(Path(word).suffix.lower() in _USD for word in map(str, arguments)):
        # It loads its library while this process loads what it needs itself.
        PROCESS.prepare()
    try:
        return app(args=arguments, standalone_mode=False, prog_name="young-marionette") or 0
    except InputError as error:
        return _say(str(error))
    except typer.TyperException as error:
        return _say(shown(_sentence(error.format_message()), 380))
    except (typer.Abort, KeyboardInterrupt):
        return _say("Stopped.")
    except BrokenPipeError:
        return 0
    except MemoryError:
        return _say("There is not enough memory for this.")
    except Exception as error:
        logging.getLogger("young_marionette").debug("%s", traceback.format_exc())
        place = traceback.extract_tb(error.__traceback__)[-1]
        _say(f"Internal error: {type(error).__name__}: {error} ({Path(place.filename).name}, line {place.lineno}).")
        return 1


def _sentence(text):
    text = " ".join(text.split())
    return text if text.endswith((".", "!", "?")) else text + "."


def _say(sentence):
    tell_error(sentence)
    return 2


if __name__ == "__main__":
    sys.exit(main())
