"""Baked clips of one rig joined, as a new one: where they meet best, and what comes of it."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ..core.controls.motion import invert
from ..core.errors import InputError
from ..core.resample import resample
from ..core.travel.joining import Change, at_rate, best_changes, joined

if TYPE_CHECKING:
    from ..core.clip import Clip
    from ..core.contacts.contact import Contacts
    from .bakes import Bake


def changes_of(first: Bake, second: Bake, seconds: float, count: int = 3) -> list[Change]:
    """Where ``first`` goes over into ``second`` best, best first; takes a moment. InputError where they can't be joined."""
    (one, ours), (other, theirs) = _sides(first, second)
    return best_changes(one, other, first.passed.limbs, (ours, theirs), seconds, count)


def joined_bakes(identifier: str, first: Bake, second: Bake, change: Change, seconds: float) -> Bake:
    """Both as one baked clip, what their passes give; on the controls of the first one, where that is on some."""
    (one, ours), (other, theirs) = _sides(first, second)
    made, found = joined(one, other, first.passed.limbs, (ours, theirs), change, seconds)
    name = f"{first.name} and {second.name}"
    dense = replace(made, name=name)
    if first.control_rig is not None:
        dense = invert(first.control_rig, dense)
    return replace(
        first, id=identifier, name=name, dense=dense, contacts=found, passes=(), digest="", frames=None,
    )  # fmt: skip


def fitting(bake: Bake, other: Bake) -> Clip:
    """What another baked clip of the rig gives, at the rate of ``bake`` and on its controls where it is on some.

    InputError where it is of another rig.
    """
    clip = other.passed.bones(other.passed.stage().clip)
    if clip.skeleton.names != bake.placed_skeleton.names:
        raise InputError(f"{other.name} and {bake.name} are not of one rig: their bones differ.")
    clip = replace(resample(clip, bake.dense.rate), name=other.name)
    return clip if bake.control_rig is None else replace(invert(bake.control_rig, clip), name=other.name)


def _sides(first: Bake, second: Bake) -> list[tuple[Clip, Contacts]]:
    """The bones of both at the rate of the first one, and what touches."""
    if first.rig.metric_body is None:
        raise InputError(f"Nothing was read of a body in {first.rig.name}: it can't be told where its clips meet.")
    found = []
    for bake in (first, second):
        stage = bake.passed.stage()
        clip = bake.passed.bones(stage.clip)
        found.append(at_rate(clip, stage.contacts, found[0][0].rate if found else clip.rate))
    return found
