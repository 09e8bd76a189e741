"""What the command line tells, as tables for people and as JSON for programs."""

from __future__ import annotations

from math import pi

from ..core.keys.keyed import KeyedClip
from ..core.matching.tying import OPTIONAL, untied
from ..core.transfer.deviation import FLOAT, LOWERED, SINK, SLIDE, TOUCHING
from ..formats.registry import ending_of
from ..project.pairing import gaps, not_there
from ..project.planting import hands_of, plants
from ..wording.facts import fact_words, rest_pose_words
from ..wording.findings import certainty_words, counted, finding_words
from ..wording.snags import worse_words
from .console import say

DEGREES = 180 / pi


def info(entries):
    """The facts of a file's first entry as plain data, and of all its clips and skeletons in short."""
    facts = _info(entries[0] if entries[0].take else next((e for e in entries if e.take), entries[0]))
    facts["clips"] = [
        {"name": e.name, "skeleton": e.skeleton.names[0], "frames": e.take.frames, "rate": e.take.rate,
         "seconds": round(e.take.seconds, 6), "start": round(e.take.start, 6), "keys": _keys(e.take),
         "curves": list(e.take.morphs), "junk": e.take.frames <= 2}
        for e in entries if e.take
    ]  # fmt: skip
    facts["skeletons"] = list(dict.fromkeys(e.skeleton.names[0] for e in entries))
    return facts


def _keys(take):
    """At how many times anything has a key; None where there is a pose on every frame."""
    return take.keys if isinstance(take, KeyedClip) else None


def _info(entry):
    figure, clip, skeleton = entry.figure, entry.take, entry.skeleton
    return {
        "file": str(entry.path),
        "format": entry.format,
        "skeleton": {
            "root": skeleton.names[0],
            "joints": len(skeleton),
            "family": entry.family,
            "prefix": figure.body.names.prefix if figure.body else "",
            "bones": [
                {"name": n, "parent": skeleton.names[p] if p >= 0 else None}
                for n, p in zip(skeleton.names, skeleton.parents)
            ],
            "parts": {part: [skeleton.names[j] for j in run] for part, run in figure.body.parts.items()}
            if figure.body
            else {},
        },
        "rate": clip.rate if clip else None,
        "frames": clip.frames if clip else 0,
        "seconds": round(clip.seconds, 6) if clip else 0,
        "unit": figure.unit,
        "metres_per_unit": figure.placement.scale,
        "up": figure.up,
        "facing": figure.facing,
        "rest_pose": rest_pose_words(figure.rest_pose),
        "arms_below_horizontal_degrees": figure.rest_pose.angle if figure.rest_pose else None,
        "height_metres": round(figure.height, 4),
        "body": _body(entry),
        "beside": _beside(entry),
        **found(entry),
    }


def found(entry):
    """What was found of an entry, and what was odd, as plain data."""
    return {
        "facts": [{"code": f.code, **fact_words(f)._asdict(), "sure": f.sure} for f in entry.facts],
        "oddities": [finding_words(o).text for o in entry.oddities],
    }


def _body(entry):
    """Meshes, levels of detail and morphs as plain data; None where there is no body."""
    if entry.character is None:
        return None
    return {
        "meshes": len(entry.character.at_level(entry.level)),
        "levels": list(entry.character.levels),
        "triangles": sum(len(m.triangles) for m in entry.character.at_level(entry.level)),
        "morphs": list(entry.character.morphs),
        "materials": [m.name for m in entry.character.materials if m.name],
    }


def print_info(entries):
    """The facts of a file as a table: of its first clip, and a line for each other one."""
    entry = next((e for e in entries if e.take), entries[0])
    _print_info(entry)
    for other in entries:
        if other is not entry and other.take:
            say(f"Clip {other.name}: {other.take.frames} frame{'s' if other.take.frames != 1 else ''} at {other.take.rate:g} per second"
                          f"{', a reference pose or junk' if other.take.frames <= 2 else ''}")  # fmt: skip
    roots = list(dict.fromkeys(e.skeleton.names[0] for e in entries))
    if len(roots) > 1:
        say(f"Skeletons: {', '.join(roots)}; choose one with --skeleton")


def _print_info(entry):
    skeleton = entry.skeleton
    say(f"{entry.path}: {entry.format}, skeleton {skeleton.names[0]} with {len(skeleton)} joints")
    print_facts(entry)
    say("Joints: " + ", ".join(skeleton.names))
    print_notes(entry)


def print_facts(entry):
    """The facts of an entry, a line each."""
    for fact in entry.facts:
        words = fact_words(fact)
        value = words.value + ("" if fact.sure else " (a guess)")
        say(f"{words.label:<12} {value:<13} {words.evidence}")


def print_notes(entry):
    """What was odd in an entry's file, a line each."""
    for oddity in entry.oddities:
        say(f"Note: {finding_words(oddity).text}")


def file_notes(*entries):
    """What was odd about the files of entries, as texts: whoever works on a file that is cut off is to know."""
    return [finding_words(note).text for entry in entries for note in entry.notes]


def print_file_notes(*entries):
    """The same, a line each."""
    for note in file_notes(*entries):
        say(f"Note: {note}")


def contacts(entry):
    """What a clip touches, as plain data."""
    found = entry.contacts
    return {
        "file": str(entry.path),
        "clip": entry.name,
        "frames": entry.placed_clip.frames,
        "rate": found.rate,
        "floor": round(found.floor, 4),
        "contacts": [
            {
                "point": c.point,
                "first": c.first,
                "last": c.last,
                "height": round(c.height, 4),
                "slide_mm": round(c.slide * 1000, 1),
                "held": c.held,
            }
            for c in found.found
        ],
        "touches": [{"hand": t.side, "on": t.to, "first": t.first, "last": t.last} for t in found.touches],
        "notes": file_notes(entry),
    }


def print_contacts(entry):
    """What a clip touches, a line for each contact."""
    found = entry.contacts
    say(f"{entry.name}: {counted(len(found.found), 'contact')} in {counted(entry.placed_clip.frames, 'frame')}")
    for c in found.found:
        place = f"{c.height * 100:.0f} cm over the floor" if c.held else "on the floor"
        say(f"{c.point:<11} frames {c.first} to {c.last}: {place}, slides {c.slide * 1000:.0f} mm")
    for t in found.touches:
        who = "both hands" if t.side == "both" else f"{t.side} hand"
        what = "on each other or on one thing" if t.to == "hands" else f"on the {t.to}"
        say(f"{who:<11} frames {t.first} to {t.last}: {what}")
    print_file_notes(entry)


def cleaned(entry, done, out):
    """What a filter did, as plain data."""
    changes = done.changes
    return {
        "file": str(entry.path),
        "clip": entry.name,
        "out": str(out),
        "frames": done.clip.frames,
        "rate": done.clip.rate,
        "spikes": done.spikes,
        "cutoffs_hz": {name: round(value, 3) for name, value in done.cutoffs.items()},
        "changed_degrees": {"rms": round(changes.degrees[0], 4), "largest": round(changes.degrees[1], 3)},
        "changed_cm": {"hands": round(changes.hands * 100, 3), "feet": round(changes.feet * 100, 3)},
        "slide_mm": _before_after(changes.slides, 1000),
        "peak_speed": _before_after(changes.peaks, 1),
        "notes": file_notes(entry),
    }


def _before_after(values, times):
    return {name: round(value * times, 3) for name, value in zip(("before", "after"), values)}


def print_cleaned(entry, done, out):
    """What a filter did, in a few lines."""
    changes = done.changes
    spikes = sum(map(len, done.spikes.values()))
    say(f"{entry.name}: {counted(spikes, 'spike')} in {counted(len(done.spikes), 'channel')}")
    if done.cutoffs:
        low, high = (end(done.cutoffs.values()) for end in (min, max))
        say(f"Low-pass at {low:.1f} Hz" if low == high else f"Low-pass at {low:.1f} to {high:.1f} Hz")
    say(f"Rotations changed by {changes.degrees[0]:.2f} degrees RMS, {changes.degrees[1]:.1f} at most")
    say(f"Hands moved by up to {changes.hands * 100:.1f} cm, feet by up to {changes.feet * 100:.1f} cm")
    before, after = (1000 * slide for slide in changes.slides)
    say(f"What stands or is held slides up to {after:.1f} mm; before {before:.1f} mm")
    before, after = changes.peaks
    say(f"Highest speed of hands and feet {after:.2f} m/s; before {before:.2f} m/s")
    print_file_notes(entry)
    say(f"Wrote {out}")


def edited(entry, changes, take, out):
    """What an edit of a clip did, as plain data."""
    return {
        "file": str(entry.path),
        "clip": entry.name,
        "out": str(out),
        "frames": take.frames,
        "rate": take.rate,
        "changed_degrees": {"rms": round(changes.degrees[0], 4), "largest": round(changes.degrees[1], 3)},
        "changed_cm": {"hands": round(changes.hands * 100, 3), "feet": round(changes.feet * 100, 3)},
        "slide_mm": _before_after(changes.slides, 1000),
        "peak_speed": _before_after(changes.peaks, 1),
        "notes": file_notes(entry),
    }


def print_edited(told):
    """What an edit of a clip did, in a few lines."""
    say(f"{told['clip']}: {told['frames']} frames at {told['rate']:g} fps")
    moved, slides = told["changed_cm"], told["slide_mm"]
    if moved["hands"] or moved["feet"]:
        say(f"Hands moved by up to {moved['hands']:.1f} cm, feet by up to {moved['feet']:.1f} cm")
    say(f"What stands or is held slides up to {slides['after']:.1f} mm; before {slides['before']:.1f} mm")
    for note in told["notes"]:
        say(f"Note: {note}")
    say(f"Wrote {told['out']}")


def thinned(entry, method, done, out, keys):
    """What thinning made, as plain data."""
    poses, off = done.poses, done.poses.deviation
    return {
        "file": str(entry.path),
        "clip": entry.name,
        "out": str(out),
        "written_as_keys": keys,
        "rate": done.rate,
        "stages": list(method.stages),
        "tolerance": {
            "cm": round(method.places * 100, 6),
            "degrees": method.degrees,
            "contacts_cm": None if method.planted is None else round(method.planted * 100, 6),
            "weight": method.weights,
        },
        "poses": {"before": poses.before[0], "after": poses.after[0]},
        "keys": {"before": poses.before[1], "after": poses.after[1]},
        "gone": round(poses.gone, 4),
        "deviation_cm": _worst(off.places, 100),
        "deviation_degrees": _worst(off.turns, DEGREES),
        "contacts_cm": _worst(off.planted, 100),
        "deviation_weight": _worst(off.weights, 1),
        "notes": file_notes(entry),
        "frames": list(poses.frames),
        "made_by": {str(frame): poses.marks[frame] for frame in sorted(poses.marks)},
    }


def _worst(worst, times):
    found = {"largest": round(worst.largest * times, 5), "rms": round(worst.rms * times, 5)}
    return found | ({"where": worst.name, "frame": worst.frame} if worst.name else {})


def print_thinned(entry, method, done, out, keys):
    """What thinning made, in a few lines."""
    poses, off = done.poses, done.poses.deviation
    say(f"{entry.name}: {poses.after[0]} poses of {poses.before[0]} frames, {poses.gone:.0%} gone")
    say(f"Keys of single joints: {poses.after[1]:,} of {poses.before[1]:,}")
    say(
        f"Off by {off.places.largest * 100:.2f} cm at most ({off.places.name}, frame {off.places.frame}), {off.places.rms * 100:.2f} cm RMS"
    )
    say(f"Turned off by {off.turns.largest * DEGREES:.1f} degrees at most ({off.turns.name}, frame {off.turns.frame})")
    if off.planted.name:
        say(
            f"What stands or is held is off by {off.planted.largest * 100:.2f} cm at most ({off.planted.name}, frame {off.planted.frame})"
        )
    if not method.promises:
        say("Only keys where contacts change were asked for: no tolerance is kept between them")
    if not keys:
        say(f"{out.suffix} holds no curves: it gets a key on every frame")
    print_file_notes(entry)
    say(f"Wrote {out}")


def _strings(pairing):
    return [
        {
            "part": s.part,
            "source": list(s.source),
            "target": list(s.target),
            "certainty": round(s.certainty, 3),
            "sure": bool(s.sure),
            "reason": s.reason,
        }
        for s in pairing.strings
    ]


def retarget(source, rig, pairing, baked, out, off):
    """What was tied and written, as plain data."""
    return {
        **pairing_facts(source, rig, pairing),
        "out": str(out),
        "frames": baked.frames,
        "rate": baked.rate,
        "seconds": round(baked.seconds, 6),
        "scale": pairing.transfer.scale,
        "in_place": bool(pairing.settings.in_place),
        "in_place_axes": list(pairing.settings.in_place),
        "root": None if pairing.settings.root is None else list(pairing.settings.root),
        "planted": plants(pairing),
        "hands": hands_of(pairing),
        "deviation": _deviation(off),
        "worse": _worse(off),
    }


def _deviation(off):
    """How far points slide, feet sink and float, and arms reach into the body at worst, in mm: before and after."""
    told = {}
    for kind, name in ((SLIDE, "slide"), (SINK, "sink"), (FLOAT, "float"), (TOUCHING, "touching")):
        told[f"{name}_mm"] = {
            lane.part: {"before": round(lane.worst * 1000, 3), "after": round(now.worst * 1000, 3)}
            for lane, now in zip(off.before, off.after)
            if lane.kind == kind
        }
    told["hips_lowered_mm"] = round(off.worst(LOWERED)[1] * 1000, 3)
    return told


def _beside(entry):
    """What a skeleton carries beside its body: kinds to names of joints."""
    body, names = entry.figure.body, entry.skeleton.names
    return {kind: [names[j] for j in joints] for kind, joints in body.beside.items()} if body else {}


def pairing_facts(source, rig, pairing):
    """What was tied and how the stance was matched, as plain data."""
    return {
        "source": str(source.path),
        "rig": str(rig.path),
        "strings": _strings(pairing),
        "missing": gaps(pairing, source, rig),
        "absent": list(dict.fromkeys((*pairing.absent, *not_there(source, rig)))),
        "untied": {
            "source": untied(pairing.strings, pairing.source, "source"),
            "rig": untied(pairing.strings, pairing.target, "target"),
        },
        "beside": {"source": _beside(source), "rig": _beside(rig)},
        "stance": [{"part": limb.part, "degrees_left": round(limb.angle, 4)} for limb in pairing.limbs],
        "rest_poses": {
            "source": rest_pose_words(source.figure.rest_pose),
            "rig": rest_pose_words(rig.figure.rest_pose),
        },
        "notes": _notes(source, rig),
    }


def _notes(source, rig):
    """What is odd about both sides, in words."""
    return [finding_words(odd).text for odd in (*source.oddities, *rig.figure.oddities, *rig.notes)]


def print_retarget(source, rig, pairing, baked, out, off):
    """What was tied and written, as tables."""
    print_pairing(source, rig, pairing)
    say(
        f"Wrote {out}: {baked.frames} frames at {baked.rate:g} per second, {baked.seconds:.2f} s, "
        f"legs {pairing.transfer.scale:.3f} times the source's"
    )
    before, after = off.worst(SLIDE)
    if plants(pairing):
        say(f"Feet planted: they slid up to {before * 1000:.1f} mm, now {after * 1000:.1f} mm")
    else:
        say(f"Feet free: where the source's stand they slide up to {after * 1000:.1f} mm")
    for sentence in _worse(off):
        say(f"Note: {sentence}")


def _worse(off):
    """What planting, hands and clearing made worse, in words."""
    return [worse_words(b.kind, b.part, a.worst, b.worst, b.at) for a, b in off.worsened()]


def body_words(out, rig, body):
    """Whether the rig's body was written, and if not, why."""
    if body:
        return "With the rig's body; --motion-only leaves it away"
    if rig.character is None:
        return "Motion only: the rig's file has no body"
    kind = ending_of(out)
    return "Motion only" if kind.body else f"Motion only: {kind.label} can't hold the rig's body"


def print_pairing(source, rig, pairing):
    """What was tied and how the stance was matched, as tables."""
    from rich.table import Table

    from .tables import PlainConsole

    table = Table(box=None, pad_edge=False)
    for title in ("part", source.name, rig.name, "sure", "why"):
        table.add_column(title, overflow="fold")
    for s in pairing.strings:
        table.add_row(
            s.part,
            ", ".join(s.source),
            ", ".join(s.target),
            f"{certainty_words(s.certainty)}{'' if s.sure else ' (a guess)'}",
            s.reason,
        )
    PlainConsole().print(table)
    for side, skeleton, name in (("source", pairing.source, source.name), ("target", pairing.target, rig.name)):
        root = pairing.transfer.root if side == "target" else None
        loose = [n for n in untied(pairing.strings, skeleton, side) if root is None or n != skeleton.names[root]]
        if root is not None:
            say(f"The root bone {skeleton.names[root]} of {name} stays on the floor under the hips")
        if loose:
            say(f"Untied in {name}: {', '.join(loose)}")
    for entry in (source, rig):
        body = entry.figure.body
        gone = [part for part in not_there(source, rig) if body is not None and part not in body.parts]
        if gone:
            say(f"Not there in {entry.name}: {', '.join(gone)}")
    tied = {s.part for s in pairing.strings}
    seen = {p for e in (source, rig) if e.figure.body is not None for p in e.figure.body.parts}
    loose = [p for p in OPTIONAL if p not in tied and p in seen and p != "root"]
    if loose:
        say(f"Optional parts without a string: {', '.join(loose)}")
    worst = max(pairing.limbs, key=lambda limb: limb.angle, default=None)
    if worst:
        say(
            f"Stance: {rest_pose_words(source.figure.rest_pose)} to {rest_pose_words(rig.figure.rest_pose)}; at most {worst.angle:.2f}° left ({worst.part})"
        )
    for note in _notes(source, rig):
        say(f"Note: {note}")
