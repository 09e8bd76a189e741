"""The command ``controls``, and what ``retarget --onto-controls`` tells."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .console import print_json, say

if TYPE_CHECKING:
    from argparse import Namespace

    from ..core.controls.motion import Lost
    from ..core.controls.sets import ControlSet

_KINDS = {
    "body": "moves everything",
    "placed": "moved and turned",
    "turned": "turned",
    "end": "moved and turned; the limb follows",
    "direction": "points",
    "roll": "rolls the foot",
    "curl": "curls the fingers",
}


def controls(asked: Namespace) -> None:
    """The controls that a rig gets by itself, or those of a file on it."""
    from .. import api
    from ..core.controls.rig import control_rig
    from ..formats.files import check_results
    from ..project import control_files

    if asked.out is not None:
        check_results([asked.out], [asked.rig, asked.controls])
    rig = api.read_rig(asked.rig, asked.skeleton)
    found = control_files.load(asked.controls) if asked.controls is not None else rig.control_set
    made = control_rig(found, rig.placed_skeleton)
    if asked.out is not None:
        control_files.save(asked.out, found, rig.name, asked.overwrite)
    told = facts(found) | {
        "rig": str(asked.rig),
        "out": None if asked.out is None else str(asked.out),
        "bones": len(rig.skeleton),
        "without": [rig.placed_skeleton.names[j] for j in made.uncontrolled],
    }
    if asked.as_json:
        print_json(told)
        return
    _print(found)
    say(f"{len(found.controls)} controls for {len(rig.skeleton)} bones of {rig.name}")
    if told["without"]:
        say(f"Bones without a control, which stay at rest: {', '.join(told['without'])}")
    if asked.out is not None:
        say(f"Wrote {asked.out}")


def facts(found: ControlSet) -> dict:
    """A set as plain data."""
    return {
        "controls": [
            {"name": one.name, "kind": one.kind, "bone": one.bone, "part": one.part, "shown": one.shown}
            for one in found.controls
        ],
        "limbs": [
            {"name": limb.name, "bones": list(limb.bones), "reaches": limb.reaches, "space": limb.space}
            for limb in found.limbs
        ],
    }


def way(lost: tuple[Lost, ...], places: float, turns: float) -> dict:
    """What the way over controls and back changed, as plain data; ``places`` in metres, ``turns`` in degrees, at most."""
    return {
        "place_mm": round(places * 1000, 6),
        "turn_degrees": round(turns, 6),
        "lost": [{"bone": one.bone, "degrees": round(one.degrees, 3)} for one in lost],
    }


def print_way(told: dict) -> None:
    """What the way over controls and back changed, in words."""
    say(f"Over controls and back: {told['place_mm']:.3f} mm and {told['turn_degrees']:.3f}° off at most")
    for one in told["lost"]:
        say(f"{one['bone']} has no control: it stays at rest instead of turning up to {one['degrees']:g}°")


def _print(found: ControlSet) -> None:
    from rich.table import Table

    from .tables import PlainConsole

    table = Table(box=None, pad_edge=False)
    for title in ("part", "control", "bone", "what it does"):
        table.add_column(title, overflow="fold")
    order = list(dict.fromkeys(one.part for one in found.controls))
    for one in sorted((c for c in found.controls if c.shown), key=lambda c: order.index(c.part)):
        limb = found.limb_of(one.bone) if one.kind != "curl" else None
        idle = limb is not None and (one.kind in ("end", "direction", "roll")) != limb.reaches
        does = _KINDS[one.kind]
        if idle:
            does += f" (only with the {limb.name} {'by turned bones' if limb.reaches else 'by its end'})"  # type: ignore[union-attr]
        table.add_row(one.part, one.name, one.bone, does)
    PlainConsole().print(table)
