"""What is written on a rig, where that is not just as the rig's own file has it: other bones, names, unit or axes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ..core import rotations as rot
from ..core.character.meshes import placed_character
from ..core.errors import InputError
from ..core.evaluator import EVALUATOR
from ..core.figure.placement import Placement, place_clip, place_skeleton
from ..core.humanoid.words import shared_prefix
from ..core.keys.keyed import KeyedClip, dense
from ..core.matching.conventions import CONVENTIONS
from ..core.rebase import rename
from ..core.travel.bones import keyed_with_root_bone, root_bone, with_root_bone, without_ends, without_root_bone
from ..core.travel.root import moved, travelled, with_root
from ..core.travel.settings import GROUND, TURN, Travel, X, Y, Z
from ..formats import encode
from ..formats.registry import format_of
from ..formats.transforms import decomposed
from .delivery import ToWrite, renamed, to_write

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from ..core.character.meshes import Character
    from ..core.clip import Clip
    from ..core.skeleton import Skeleton
    from ..core.travel.bones import Change
    from ..formats.files import Output
    from .entry import Entry
    from .pairing import Pairing

KEEP, ADD, REMOVE = ROOTS = ("", "add", "remove")
APPLY, RESET = "apply", "reset"


@dataclass(frozen=True)
class Shape:
    """How what is written differs from a rig's own file.

    ``root``: a root bone is added to a rig without one, or the one that it has is taken out. ``travel``: of motion that was
    baked otherwise. ``ends``: last bones that only end the bone above are left out. ``names``: a convention that bones are named
    in (see ``delivery.renamed``), ``over``: what stands over the skeleton in the rig's file, such as an object that holds it, is
    kept, taken into the motion (``"apply"``), or left out with what it does to it (``"reset"``). ``prefix`` false: without what all names begin with. ``unit``: metres per unit, ``up``: "Y" or "Z".
    """

    root: str = KEEP
    travel: Travel | None = None
    ends: bool = False
    names: str = ""
    prefix: bool = True
    unit: float | None = None
    up: str | None = None
    over: str = KEEP

    @property
    def keeps_keys(self) -> bool:
        """Whether keys with their curves are written as such, where the format can: all else takes a pose on every frame."""
        travel = self.travel or Travel()
        root = self.root == ADD and (travel.root is None or TURN not in travel.root)
        plain = self.root == KEEP and self.travel is None
        moved = travel.needs_first or bool(travel.in_place)
        return (plain or root) and not moved and not self.ends and self.over != RESET

    @property
    def as_the_file(self) -> bool:
        """Whether joints, unit and axes are those of the rig's file."""
        return self.root == KEEP and not self.ends and self.unit is None and self.up is None and self.over == KEEP


def with_settings(shape: Shape, pairing: Pairing) -> Shape:
    """What a root bone that is added carries is what the transfer's would; InputError where one is lacking."""
    settings = pairing.settings
    if shape.root == ADD:
        return replace(shape, travel=Travel(root=settings.root, smooth=settings.root_smooth))
    if settings.root and pairing.transfer.root is None:
        raise InputError("The rig has no root bone on the floor that could carry anything; ask for one to be added.")
    return shape


def fitted(shape: Shape, rig: Entry) -> Shape:
    """A shape that is asked for of many rigs, on one of them: what has a root bone is given none, what has none loses none."""
    if shape.root == KEEP or rig.figure.body is None:
        return shape
    _, root = hips_and_root(rig, rig.placed_skeleton)
    return replace(shape, root=KEEP) if (shape.root == ADD) == (root is not None) else shape


def hips_and_root(rig: Entry, skeleton: Skeleton) -> tuple[int, int | None]:
    """The joints of the hips and of the root bone (None: it has none) of a placed skeleton of a rig; InputError without a body."""
    body = rig.figure.body
    if body is None:
        raise InputError(f"{rig.name} has no readable body, so its travel can't be told.")
    feet = [run[0] for part, run in body.parts.items() if part.endswith(("foot", "toes"))]
    hips = body.parts["hips"][0]
    return hips, root_bone(skeleton, hips, feet)


def check_shape(path: str | Path, rig: Entry, shape: Shape) -> None:
    """InputError where a rig can't be written so."""
    kind = format_of(path)
    if kind.fixed_world and (shape.unit not in (None, 1.0) or shape.up not in (None, "Y")):
        raise InputError(f"{kind.name} is always in metres with Y up; choose BVH or USD for another unit or axis.")
    if shape.names and shape.names.lower() not in CONVENTIONS and not Path(shape.names).exists():
        raise InputError(
            f"'{shape.names}' is neither a known naming convention nor a file; use {', '.join(CONVENTIONS)} or a file with the names."
        )
    wants_root = shape.root == KEEP and shape.travel is not None and bool(shape.travel.root)
    if shape.root == KEEP and not wants_root:
        return
    _, root = hips_and_root(rig, rig.placed_skeleton)
    if shape.root == ADD and root is not None:
        raise InputError(f"{rig.name} has a root bone already: {rig.placed_skeleton.names[root]}.")
    if root is None and shape.root == REMOVE:
        raise InputError(f"{rig.name} has no root bone that could be taken out.")
    if root is None and wants_root:
        raise InputError(f"{rig.name} has no root bone on the floor; ask for one to be added.")


def shaped(
    path: str | Path,
    baked: Clip | KeyedClip,
    rig: Entry,
    body: bool = False,
    shape: Shape = Shape(),
    more: Sequence[Clip | KeyedClip] = (),
    extras: Mapping[str, Any] | None = None,
) -> list[Output]:
    """The files (list of Output) of a baked clip on the placed rig, as ``shape`` says; ``more``: clips in the same file.

    ``extras``: plain data that goes with it where the format can take it along, and the bones are those of the rig's file.
    """
    clip, layout, wanted = _to_write(path, baked, rig, body, shape)
    others = tuple(_to_write(path, one, rig, body, shape)[0] for one in more)
    wanted["extras"] = extras if shape.as_the_file and not shape.names else None
    return encode(path, clip, layout, **wanted, more=others)


def _to_write(path: str | Path, baked: Clip | KeyedClip, rig: Entry, body: bool, shape: Shape) -> ToWrite:
    check_shape(path, rig, shape)
    travel = shape.travel or Travel()
    if shape.travel is not None and shape.root != ADD:
        baked = travelled(dense(baked), *hips_and_root(rig, baked.skeleton), shape.travel)
    if shape.names:
        rig = _named(rig, shape.names)
    if not shape.prefix:
        names = rig.skeleton.names
        shared = shared_prefix(names)
        rig = rig.with_bone_names({n: n.removeprefix(shared) for n in names}) if shared else rig
    if rig.skeleton.names != baked.skeleton.names:
        baked = replace(baked, skeleton=rename(baked.skeleton, dict(zip(baked.skeleton.names, rig.skeleton.names))))
    if shape.as_the_file:
        return to_write(path, baked, rig, body)
    if body and rig.character is None:
        raise InputError(f"{rig.name} has no body that could be written with it.")
    world, metres, up = _world(path, rig, shape)
    take = rig.with_morphs(baked) if body else baked
    keyed = _keyed(take, rig, shape, world) if isinstance(take, KeyedClip) else None
    if keyed is not None:
        made = [with_root_bone(place_skeleton(take.skeleton, world))] if shape.root == ADD else []
        character = _character(rig, world, made) if body else None
        return (
            keyed,
            None,
            {"metres_per_unit": metres, "up": up, "body": body, "bones": rig.bones, "character": character},
        )
    clip = dense(take)
    if shape.over == RESET:
        clip = _without_over(clip, rig)
    skeleton, changes = place_skeleton(clip.skeleton, world), []
    hips, root = hips_and_root(rig, clip.skeleton) if shape.root != KEEP else (0, None)
    if shape.root == ADD:
        if shape.travel is not None:
            clip = travelled(clip, hips, None, shape.travel)
        changes.append(with_root_bone(skeleton))
    elif shape.root == REMOVE and root is not None:
        changes.append(without_root_bone(skeleton, root, hips))
    clip, skeleton = _changed(clip, skeleton, changes, world)
    if shape.ends:
        keep = (
            {n for run in rig.figure.body.parts.values() for n in (rig.skeleton.names[j] for j in run)}
            if rig.figure.body
            else set()
        )
        changes.append(without_ends(skeleton, [j for j, n in enumerate(skeleton.names) if n in keep]))
        clip, skeleton = _changed(clip, skeleton, changes[-1:], world)
    if shape.root == ADD:
        clip = with_root(clip, hips + 1, 0, replace(travel, root=GROUND if travel.root is None else travel.root))
    character = _character(rig, world, changes) if body else None
    bones = tuple((bone, name) for bone, name in rig.bones if name in skeleton.index)
    placed = place_clip(clip, world, skeleton)
    wanted = {"metres_per_unit": metres, "up": up, "body": body, "character": character, "bones": bones}
    return placed, None, wanted


def _character(rig: Entry, world: Placement, changes: list[Change]) -> Character | None:
    """A rig's body in the world that is written, with its skeleton's changes."""
    if rig.placed_character is None:
        return None
    character = placed_character(rig.placed_character, world)
    for change in changes:
        character = change.character(character)
    return character


def _keyed(take: KeyedClip, rig: Entry, shape: Shape, world: Placement) -> KeyedClip | None:
    """Keys as keys in the world that is written; None where what is asked for takes a pose on every frame."""
    travel = shape.travel or Travel()
    if not shape.keeps_keys:
        return None
    skeleton = place_skeleton(take.skeleton, world)
    placed = place_clip(take, world, skeleton)
    if shape.root == KEEP:
        return placed
    parts = GROUND if travel.root is None else travel.root
    hips, _ = hips_and_root(rig, take.skeleton)
    turn = rot.to_matrix(world.turn)
    carried = turn @ np.diag([float(part in parts) for part in (X, Y, Z)]) @ turn.T
    rise = take.skeleton.rest_world[0][hips][1] * world.scale if Y in parts else 0.0
    return keyed_with_root_bone(placed, with_root_bone(skeleton), hips, carried, turn @ np.array([0.0, -rise, 0.0]))


def _named(rig: Entry, names: str) -> Entry:
    # Not what a file of names holds now: it is read once for all clips of one piece of work.
    return EVALUATOR.of("rig with other names", (rig, names), lambda: renamed(rig, names))


def _changed(clip: Clip, skeleton: Skeleton, changes: list[Change], world: Placement) -> tuple[Clip, Skeleton]:
    """``clip`` in our world on what ``changes`` make of ``skeleton``, which stands in the world that is written."""
    for change in changes:
        clip, skeleton = change.clip(clip, place_skeleton(change.new, world.inverse)), change.new
    return clip, skeleton


def _over(rig: Entry) -> tuple[np.ndarray, np.ndarray, float] | None:
    """``(move (3,), turn (4,), scale)`` of what stands over the skeleton in a rig's file, or None where nothing does."""
    over = getattr(getattr(rig.layout, "tree", None), "over", None)
    if over is None or np.abs(over - np.eye(4)).max() < 1e-9:
        return None
    move, turn, scales = decomposed(over)
    return move, turn, float(np.mean(scales))


def _without_over(clip: Clip, rig: Entry) -> Clip:
    """A placed clip moved to where it would stand if what is over its skeleton did not move it."""
    over = _over(rig)
    if over is None:
        return clip
    placement = rig.figure.placement
    shift = -rot.rotate(placement.turn, over[0] * placement.scale)
    still = clip.skeleton
    offsets = still.offsets + np.where((still.parents < 0)[:, None], shift, 0.0)
    return replace(moved(clip, shift[:, None]), skeleton=replace(still, offsets=offsets))


def _world(path: str | Path, rig: Entry, shape: Shape) -> tuple[Placement, float, str]:
    """``(placement from our world, metres per unit, up)`` of what is written: as asked, else the rig's own where the format tells it."""
    own = rig.layout is not None and rig.layout.format == format_of(path).name
    up = (rig.declared.up or "+Y")[-1] if own else "Y"
    if shape.unit is None and shape.up is None:
        over = _over(rig)
        if own and shape.over == RESET and over is not None:
            placement, (_, turn, scale) = rig.figure.placement, over
            back = rot.multiply(rot.conjugate(turn), rot.conjugate(placement.turn))
            return Placement(1 / (placement.scale * scale), back), placement.scale * scale, up
        if own:
            return rig.figure.placement.inverse, rig.figure.placement.scale, up
        return Placement(), 1.0, "Y"
    metres = shape.unit if shape.unit is not None else rig.figure.placement.scale if own else 1.0
    up = shape.up or up
    forward = rot.AXES["Z"] if up == "Y" else -rot.AXES["Y"]
    return Placement.from_axes(metres, np.asarray(rot.AXES[up]), forward).inverse, metres, up
