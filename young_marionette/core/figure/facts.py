"""What a file turns out to hold: unit, axes, facing, rest pose and oddities, each with what it was taken from."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from ..clip import blocks
from ..contacts.sitting import sits
from ..findings import DECLARED, MANUAL, Fact, Finding, finding
from ..humanoid.beside import ARMS, TAIL, WING
from ..humanoid.known import known_body
from ..humanoid.parts import FOUR_LEGS, PERSON, REQUIRED
from ..humanoid.reading import Body, Shape, read_shape
from ..humanoid.words import LEFT, RIGHT
from ..kinematics import forward_rows
from ..units import UNITS, name_of
from .correction import BIND, Correction
from .declared import Declared
from .placement import Placement, axis_name, axis_vector, plain_forward
from .posture import Upright, is_folded, motion_wins, upright

if TYPE_CHECKING:
    from ..clip import Clip
    from ..skeleton import Skeleton


# Rare units are only believed of a figure as tall as people are.
_USUAL, _RARE = 1.7, 0.3
_DOUBT = 0.95  # certainty under which a motion is asked, too
_CONVENTION = np.radians(15)  # off an axis, up to which a rest pose is meant to face along it
_LOWEST, _TALLEST = 0.2, 12.0  # metres; a figure outside of this has been told a wrong unit


NO_BODY = ("no body", "no legs")  # codes of skeletons in which no body can be read


class Arms(StrEnum):
    """How the arms are held at rest."""

    T_POSE = "T-pose"
    A_POSE = "A-pose"
    HANGING = "hanging"
    RAISED = "raised"
    NONE = "none"
    FORELEGS = "on four legs"


@dataclass(frozen=True)
class RestPose:
    """``angle``: of the arms below the horizontal, degrees; None where there are none."""

    arms: Arms
    seated: bool = False
    angle: float | None = None


@dataclass(frozen=True, eq=False)
class Figure:
    """A skeleton that was examined: its body, its placement in our world, and the facts.

    ``folded``: it rests in a pose that no person takes, so that only a motion shows its build.
    """

    body: Body | None
    placement: Placement
    unit: str
    up: str
    facing: str
    rest_pose: RestPose | None
    height: float
    facts: tuple[Fact, ...]
    oddities: tuple[Finding, ...]
    fingerprint: str
    folded: bool = False

    @property
    def doubtful(self) -> bool:
        """Whether the skeleton alone leaves it open which joint is what, or where ahead is."""
        body = self.body
        return body is None or not body.facing_certain or min(body.certainty.get(p, 0.0) for p in REQUIRED) < _DOUBT


def guess_unit(stature: float) -> tuple[float, str, bool]:
    """``(metres per unit, name, sure)`` for a figure of that length in file units."""
    if stature <= 0 or not np.isfinite(stature):
        return 1.0, "metre", False
    misfits = [(abs(np.log(stature * unit.metres / _USUAL)), unit) for unit in UNITS]
    fitting = [(m + u.rarity, u.name, u.metres) for m, u in misfits if m < (1.2 if u.rarity < 0.5 else _RARE)]
    if fitting and min(fitting)[0] <= 1.2:
        _, name, scale = min(fitting)
        return scale, name, True
    power = 10.0 ** -round(np.log10(stature / _USUAL))
    scale = power if 1.2 < stature * power < 2.3 else _USUAL / stature
    return scale, name_of(scale), False


def describe_rest(skeleton: Skeleton, body: Body) -> RestPose:
    """What pose the skeleton rests in (a RestPose)."""
    if body.kind == FOUR_LEGS:
        return RestPose(Arms.FORELEGS)
    points, _ = skeleton.rest_world
    arms = [
        points[body.parts[f"{s} hand"][0]] - points[body.parts[f"{s} upper arm"][0]]
        for s in ("left", "right")
        if f"{s} hand" in body.parts and f"{s} upper arm" in body.parts
    ]
    angle, held = None, Arms.NONE
    if arms:
        angle = float(np.degrees(np.mean([np.arcsin(np.clip(-rot.normalise(a) @ body.up, -1, 1)) for a in arms])))
        held = Arms.T_POSE if abs(angle) < 20 else Arms.RAISED if angle < 0 else Arms.A_POSE
        held = Arms.HANGING if angle >= 65 else held
    thighs = [points[body.parts[f"{s} shin"][0]] - points[body.parts[f"{s} thigh"][0]] for s in ("left", "right")]
    seated = bool(np.mean([rot.normalise(t) @ -body.up for t in thighs]) < 0.5)
    return RestPose(held, seated, angle)


def fingerprint(skeleton: Skeleton, prefix: str = "") -> str:
    """A short text that is equal for skeletons of one family: structure, names without prefix, proportions."""
    size = np.linalg.norm(skeleton.offsets[skeleton.parents >= 0], axis=1).sum() or 1.0
    shares = [f"{np.linalg.norm(o) / size:.3f}" if p >= 0 else "" for o, p in zip(skeleton.offsets, skeleton.parents)]
    lines = [f"{n.removeprefix(prefix)} {p} {s}" for n, p, s in zip(skeleton.names, skeleton.parents, shares)]
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()[:16]


def examine(
    skeleton: Skeleton,
    correction: Correction = Correction(),
    declared: Declared = Declared(),
    clip: Clip | None = None,
    frame: int | None = None,
) -> Figure:
    """Examine a skeleton in its file's own unit and axes (a Figure).

    ``declared``: what the file says of itself. ``clip``: a motion on its joints, which tells more of them. ``frame``: of
    the clip whose pose is taken for the rest pose, where the file's is none.

    Only whole quarter turns are taken for a convention of the file's axes. A rest pose that stands turned by any other
    angle leaves the world as it is: that heading belongs to the motion.
    """
    body = known_body(skeleton, declared.bones, correction.prefix) if declared.bones else None
    shape = body or read_shape(skeleton, correction.prefix, clip)
    body = shape if isinstance(shape, Body) else None
    oddities = []
    if body is None:
        extent = np.ptp(np.vstack([skeleton.rest_world[0], np.nan_to_num(skeleton.ends)]), axis=0).max()
        stature, up = float(extent), axis_vector(declared.up or "Y")
        forward = plain_forward(up)
        up_from = facing_from = finding("no body")
        up_sure = facing_sure = False
        assert isinstance(shape, Shape)
        if declared.up:
            up_from, up_sure = DECLARED, True
        oddities.append(finding(shape.kind))
    else:
        stature, up, forward = body.stature, body.up, body.forward
        up_from, up_sure = finding(FOUR_LEGS) if body.kind == FOUR_LEGS else finding("trunk", declared=False), True
        facing_from, facing_sure = finding(body.facing_from), body.facing_certain
        if declared.up and abs(up @ axis_vector(declared.up)) < 0.5:
            oddities.append(finding("declared up", declared=declared.up, seen=axis_name(up)))
        elif declared.up and body.kind == PERSON:
            up_from = finding("trunk", declared=True)
        if body.sides_swapped:
            oddities.append(finding("sides"))
    stands = upright(clip, body) if clip is not None and body is not None else None
    if body is not None and clip is not None and stands is not None and _disagree(stands, body):
        followed = motion_wins(clip, body, up, stands)
        names = {"rest": axis_name(up), "motion": axis_name(stands.axis)}
        oddities.append(finding("up differs", **names, followed=followed))
        up_sure = False
        if followed:
            up, up_from = stands.axis, finding("motion stands")
    if correction.up:
        up, up_from, up_sure = axis_vector(correction.up), MANUAL, True
        oddities = [odd for odd in oddities if odd.code != "up differs"]
    forward, yaw = _facing(body, forward, up, frame is not None)
    if correction.facing:
        forward, facing_from, facing_sure = _square(axis_vector(correction.facing), up), MANUAL, True
    folded = body is not None and is_folded(skeleton, body)
    if folded:
        oddities.append(finding("folded rest"))
    if frame is not None:
        oddities.append(finding("rest replaced", frame=frame))
    scale, unit, unit_sure, unit_from = _unit(stature, body, correction, declared, oddities)
    rest = describe_rest(skeleton, body) if body else None
    facts = [
        Fact("unit", {"unit": unit, "metres": scale}, unit_from, unit_sure),
        Fact("up", {"axis": axis_name(up)}, up_from, up_sure),
        Fact(
            "facing", {"axis": axis_name(forward), "yaw": 0.0 if correction.facing else yaw}, facing_from, facing_sure
        ),
        Fact("skeleton", {"joints": len(skeleton)}, _about_joints(skeleton)),
        Fact("height", {"metres": stature * scale}, finding("along bones")),
    ]
    if body:
        more = [kind for kind in (ARMS, WING, TAIL) if kind in body.beside]
        facts.append(Fact("limbs", {"kind": body.kind, "arms": "left hand" in body.parts, "more": more}))
        chosen = correction.rest is not None
        posed = frame if not chosen else None if correction.rest == BIND else correction.rest
        source = finding("rest pose", pose=rest, chosen=chosen, frame=posed)
        facts.append(Fact("rest pose", {"pose": rest}, source))
        prefix = body.names.prefix
        prefix_from = MANUAL if correction.prefix is not None else finding("all names") if prefix else None
        facts.append(Fact("name prefix", {"prefix": prefix}, prefix_from))
        if body.beside:
            kinds = {kind: len(joints) for kind, joints in body.beside.items()}
            facts.append(Fact("beside", {"kinds": kinds}, finding("seen beside")))
    return Figure(
        body,
        Placement.from_axes(scale, up, forward),
        unit,
        axis_name(up),
        axis_name(forward),
        rest,
        stature * scale,
        tuple(facts),
        tuple(oddities),
        fingerprint(skeleton, body.names.prefix if body else correction.prefix or ""),
        folded,
    )


def _disagree(stands: Upright, body: Body) -> bool:
    return float(stands.axis @ body.up) < 0.5


def motion_disagrees(figure: Figure, clip: Clip) -> bool:
    """Whether a clip, in its file's world, stands along another axis than its skeleton rests along.

    ``figure``: as ``place_figure`` gave it.
    """
    stands = upright(clip, figure.body) if figure.body is not None else None
    if stands is None or figure.body is None:
        return False
    return float(rot.rotate(figure.placement.turn, stands.axis) @ figure.body.up) < 0.5


def _facing(body: Body | None, forward: np.ndarray, up: np.ndarray, posed: bool) -> tuple[np.ndarray, float]:
    """``(the axis that is ahead, by how many degrees the rest pose faces aside of it)``.

    ``posed``: the rest pose is one of a motion's, which faces wherever it went.
    """
    plain = plain_forward(up)
    if body is None or abs(float(body.up @ up)) < 0.5:
        return plain, 0.0  # a body that lies at rest faces nowhere
    forward = _square(forward, up)
    axis = axis_vector(axis_name(forward))
    if posed or rot.angle_between(forward, axis) > _CONVENTION:
        axis = plain
    return axis, float(np.degrees(np.arctan2(np.cross(axis, forward) @ up, axis @ forward)))


def _unit(
    stature: float, body: Body | None, correction: Correction, declared: Declared, oddities: list[Finding]
) -> tuple[float, str, bool, Finding]:
    """``(metres per unit, name, sure, what it was taken from)``; adds to ``oddities`` what is strange about it."""
    scale, unit, sure = guess_unit(stature)
    source = finding("figure length", units=stature)
    if declared.unit and (body is None or _LOWEST < stature * declared.unit < _TALLEST):
        scale, unit, sure, source = declared.unit, name_of(declared.unit), True, DECLARED
    elif declared.unit and body:
        oddities.append(finding("declared unit", unit=name_of(declared.unit), height=stature * declared.unit))
    if correction.scale:
        return correction.scale, name_of(correction.scale), True, MANUAL
    if not sure:
        oddities.append(finding("unit", units=stature, height=stature * scale))
    return scale, unit, sure, source


def _about_joints(skeleton: Skeleton) -> Finding:
    """What the joints are like: how many only mark ends, and how many lie on their parent."""
    ends = sum(not c and not np.isfinite(t[0]) for c, t in zip(skeleton.children, skeleton.tips))
    lengths = np.linalg.norm(skeleton.offsets[skeleton.parents >= 0], axis=1)
    zero = int(np.sum(lengths < 1e-9 * max(np.abs(skeleton.offsets).max(), 1e-30)))
    return finding("joints", ends=ends, zero=zero)


def _square(forward: np.ndarray, up: np.ndarray) -> np.ndarray:
    """``forward`` made square to ``up``."""
    forward = forward - (forward @ up) * up
    return rot.normalise(forward) if np.linalg.norm(forward) > 1e-6 else plain_forward(up)


def motion_facts(
    clip: Clip, body: Body | None, keys: int | None = None, height: float | None = None
) -> tuple[tuple[Fact, ...], tuple[Finding, ...]]:
    """Facts and oddities of a placed clip: length, travel, floor, junk. Returns ``(facts, oddities)``.

    ``keys``: at how many times the file has any, where it has none on every frame. ``height``: of the placed figure
    (metres), where that is not the body's stature.
    """
    facts = [
        Fact("rate", {"rate": clip.rate}),
        Fact("length", {"seconds": clip.seconds, "frames": clip.frames, "start": clip.start}),
    ]
    if keys is not None:
        facts.append(Fact("keys", {"keys": keys}))
    oddities = []
    if clip.frames <= 2:
        oddities.append(finding("short", frames=clip.frames))
    if body is None or clip.frames < 1:
        return tuple(facts), tuple(oddities)
    if _collapsed(clip, body):
        oddities.append(finding("collapsed"))
    hips = body.parts["hips"][0]
    feet = [j for part in ("left foot", "right foot", "left toes", "right toes") for j in body.parts.get(part, ())]
    legs = [
        (body.parts[f"{s} thigh"][0], body.parts[f"{s} shin"][0]) for s in (LEFT, RIGHT) if f"{s} shin" in body.parts
    ]
    ways, lowest, seated = np.empty((2, clip.frames)), np.empty(clip.frames), np.zeros(clip.frames, bool)
    for part in blocks(clip.frames):
        places, _ = forward_rows(clip.picked(part), [hips, *feet, *(j for leg in legs for j in leg)])
        ways[:, part], lowest[part] = places[hips][[0, 2]], places[feet][:, 1].min(0)
        if legs and feet:
            tops, knees = places[[leg[0] for leg in legs]], places[[leg[1] for leg in legs]]
            seated[part] = sits(tops, knees, places[feet], height or body.stature)
    travel = np.ptp(ways, axis=1)
    facts.append(Fact("travel", {"in_place": bool(max(travel) <= 0.3), "metres": float(np.hypot(*travel))}))
    low = float(np.sort(lowest)[clip.frames // 10])  # where nothing but a few frames is lower
    rest_low = _under_feet(clip.skeleton, feet, body.up)
    floor = float(low + min(rest_low, 0.0))
    facts.append(Fact("floor", {"metres": floor}))
    # The feet of who sits rest on whatever there is.
    if abs(floor) > 0.025 and clip.frames > 2 and seated.mean() < 0.5:
        oddities.append(finding("floor", metres=floor))
    return tuple(facts), tuple(oddities)


def _collapsed(clip: Clip, body: Body) -> bool:
    """Whether head and feet are never further apart than a third of what the bones would allow."""
    joints = [body.parts[p][0] for p in ("head", "left foot", "right foot") if p in body.parts]
    step = max(clip.frames // 12, 1)
    few = clip.picked(slice(None, None, step))
    places, _ = forward_rows(few, joints)
    rest = clip.skeleton.rest_world[0]
    if len(joints) < 2:
        return False
    apart = max(float(np.linalg.norm(places[joints[0]] - places[j], axis=0).max()) for j in joints[1:])
    return apart < 0.35 * max(float(np.linalg.norm(rest[joints[0]] - rest[j])) for j in joints[1:])


def _under_feet(skeleton: Skeleton, feet: list[int], up: np.ndarray) -> float:
    """How far the ends of the feet are under their lowest joint at rest, along ``up``: 0 or less."""
    joints, ends = skeleton.rest_world[0][feet] @ up, skeleton.ends[feet] @ up
    return float(np.nanmin(np.concatenate([ends, joints])) - joints.min())


def place_figure(
    skeleton: Skeleton,
    correction: Correction = Correction(),
    declared: Declared = Declared(),
    clip: Clip | None = None,
    frame: int | None = None,
) -> Figure:
    """Examine a skeleton as read, see ``examine``; return its Figure with the body's frame in our world."""
    figure = examine(skeleton, correction, declared, clip, frame)
    if figure.body is None:
        return figure
    turn = figure.placement.turn
    body = replace(figure.body, up=rot.rotate(turn, figure.body.up), forward=rot.rotate(turn, figure.body.forward))
    return replace(figure, body=body)
