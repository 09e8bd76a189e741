"""What a file turns out to hold: unit, axes, facing, rest pose and oddities, each with evidence."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace

import numpy as np

from .. import rotations as rot
from ..clip import as_rows
from ..humanoid.known import known_body
from ..humanoid.reading import Body, read_shape
from ..kinematics import position_rows, world_rotation_rows
from ..units import UNITS, name_of
from .correction import BIND, Correction
from .declared import Declared
from .placement import Placement, axis_name, axis_vector

# Rare units are only believed of a figure as tall as people are.
_USUAL, _RARE = 1.7, 0.3
_LOWEST, _TALLEST = 0.2, 12.0  # metres; a figure outside of this has been told a wrong unit


# What is told of a skeleton that is no body which a person's motion could go onto.
SHAPES = {
    "no body": "No body with two legs can be seen in this skeleton.",
    "no legs": "No legs can be seen in this skeleton, only arms.",
    "four legs": "This skeleton stands on four legs: it is no body that a person's motion could go onto.",
}


@dataclass(frozen=True)
class Fact:
    """One finding: what it is about, its value in words, and what it was taken from."""

    label: str
    value: str
    evidence: str = ""
    sure: bool = True


@dataclass(frozen=True)
class Oddity:
    """Something about a file that is worth a look, and what to do about it. ``kind`` tells programs apart what it is."""

    kind: str
    text: str
    remedy: str
    amount: float = 0.0


@dataclass(frozen=True, eq=False)
class Figure:
    """A skeleton that was examined: its body, its placement in our world, and the facts."""

    body: object
    placement: Placement
    unit: str
    up: str
    facing: str
    rest_pose: str
    arm_angle: float | None
    height: float
    facts: tuple[Fact, ...]
    oddities: tuple[Oddity, ...]
    fingerprint: str


def guess_unit(stature):
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


def describe_rest(skeleton, body):
    """``(words, arm angle)``: what pose the skeleton rests in; the angle is below the horizontal, degrees."""
    points, _ = skeleton.rest_world
    arms = [
        points[body.parts[f"{s} hand"][0]] - points[body.parts[f"{s} upper arm"][0]]
        for s in ("left", "right")
        if f"{s} hand" in body.parts and f"{s} upper arm" in body.parts
    ]
    angle, words = None, "no arms"
    if arms:
        angle = float(np.degrees(np.mean([np.arcsin(np.clip(-rot.normalise(a) @ body.up, -1, 1)) for a in arms])))
        words = (
            "T-pose"
            if abs(angle) < 20
            else "A-pose"
            if 20 <= angle < 65
            else "arms hanging"
            if angle >= 65
            else "arms raised"
        )
    thighs = [points[body.parts[f"{s} shin"][0]] - points[body.parts[f"{s} thigh"][0]] for s in ("left", "right")]
    if np.mean([rot.normalise(t) @ -body.up for t in thighs]) < 0.5:
        words = f"seated, {words}"
    return words, angle


def fingerprint(skeleton, prefix=""):
    """A short text that is equal for skeletons of one family: structure, names without prefix, proportions."""
    size = np.linalg.norm(skeleton.offsets[skeleton.parents >= 0], axis=1).sum() or 1.0
    shares = [f"{np.linalg.norm(o) / size:.3f}" if p >= 0 else "" for o, p in zip(skeleton.offsets, skeleton.parents)]
    lines = [f"{n.removeprefix(prefix)} {p} {s}" for n, p, s in zip(skeleton.names, skeleton.parents, shares)]
    return hashlib.sha256("\n".join(lines).encode()).hexdigest()[:16]


def examine(skeleton, correction=Correction(), declared=Declared()):
    """Examine a skeleton in its file's own unit and axes (a Figure); ``declared``: what the file says of itself."""
    body = known_body(skeleton, declared.bones, correction.prefix) if declared.bones else None
    shape = body or read_shape(skeleton, correction.prefix)
    body = shape if isinstance(shape, Body) else None
    facts, oddities = [], []
    if body is None:
        extent = np.ptp(np.vstack([skeleton.rest_world[0], np.nan_to_num(skeleton.ends)]), axis=0).max()
        stature, up = float(extent), axis_vector(declared.up or "Y")
        forward = rot.AXES["Z"] if abs(up[1]) > 0.5 else -rot.AXES["Y"]
        up_from = facing_from = "no body could be read; this is a guess"
        up_sure = facing_sure = False
        if shape.up is not None:
            up, forward = shape.up, shape.forward
            up_from = facing_from = "the four legs that it stands on"
            up_sure = facing_sure = True
        elif declared.up:
            up_from, up_sure = "the file says so", True
        oddities.append(Oddity(shape.kind, SHAPES[shape.kind], "Use another file, or tie its bones by hand."))
    else:
        stature, up, forward = body.stature, body.up, body.forward
        up_from, facing_from, up_sure, facing_sure = (
            "direction from hips to head",
            body.facing_from,
            True,
            body.facing_certain,
        )
        if declared.up and abs(up @ axis_vector(declared.up)) < 0.5:
            oddities.append(
                Oddity(
                    "up",
                    f"The file says that {declared.up} is up, and the figure stands along {axis_name(up)}.",
                    "The figure is trusted; set Up in Gather if it should lie.",
                )
            )
        elif declared.up:
            up_from = "direction from hips to head, and the file says so"
        if body.sides_swapped:
            oddities.append(
                Oddity(
                    "sides",
                    "The words left and right in the names stand against the body: what is called left is its right.",
                    "The body is trusted; if it faces the other way, set its facing in Gather.",
                )
            )
    if correction.up:
        up, up_from, up_sure = axis_vector(correction.up), "set manually", True
    forward = _square(forward, up)
    if correction.facing:
        forward, facing_from, facing_sure = _square(axis_vector(correction.facing), up), "set manually", True
    scale, unit, unit_sure = guess_unit(stature)
    unit_from = f"the figure is {stature:.4g} units tall along its bones"
    if declared.unit and (body is None or _LOWEST < stature * declared.unit < _TALLEST):
        scale, unit, unit_sure, unit_from = declared.unit, name_of(declared.unit), True, "the file says so"
    elif declared.unit and body:
        oddities.append(
            Oddity(
                "declared unit",
                f"By the unit that the file tells, {name_of(declared.unit)}, the figure would be "
                f"{stature * declared.unit:.3g} m tall; it is taken to be in another one.",
                "Set its unit in Gather if it is that size.",
            )
        )
    if correction.scale:
        scale, unit_sure, unit_from = correction.scale, True, "set manually"
        unit = name_of(scale)
    elif not unit_sure:
        oddities.append(
            Oddity(
                "unit",
                f"No usual unit fits a figure of {stature:,.0f} units; it is shown {stature * scale:.2f} m tall.",
                "Set its unit in Gather if that is not its size.",
            )
        )
    rest, angle = describe_rest(skeleton, body) if body else ("unknown", None)
    facts += [
        Fact("Unit", unit, unit_from, unit_sure),
        Fact("Up", axis_name(up), up_from, up_sure),
        Fact("Facing", axis_name(forward), facing_from, facing_sure),
        Fact("Skeleton", f"{len(skeleton)} joints", _about_joints(skeleton)),
        Fact("Height", f"{stature * scale:.2f} m", "from sole to crown along the bones"),
    ]
    if body:
        told = "" if angle is None else f"arms {abs(angle):.0f}° {'above' if angle < 0 else 'below'} the horizontal"
        if correction.rest is not None:
            frame = "bind pose" if correction.rest == BIND else f"frame {correction.rest} of the file"
            told = f"{told}; {frame}, set manually".removeprefix("; ")
        facts.append(Fact("Rest pose", rest, told))
        prefix = body.names.prefix
        told = "set manually" if correction.prefix is not None else "all names begin with it" if prefix else ""
        facts.append(Fact("Name prefix", prefix or "none", told))
    return Figure(
        body,
        Placement.from_axes(scale, up, forward),
        unit,
        axis_name(up),
        axis_name(forward),
        rest,
        angle,
        stature * scale,
        tuple(facts),
        tuple(oddities),
        fingerprint(skeleton, body.names.prefix if body else correction.prefix or ""),
    )


def _about_joints(skeleton):
    """What the joints are like: how many only mark ends, and how many lie on their parent."""
    ends = sum(not c and not np.isfinite(t[0]) for c, t in zip(skeleton.children, skeleton.tips))
    zero = int(
        np.sum(
            np.linalg.norm(skeleton.offsets[skeleton.parents >= 0], axis=1)
            < 1e-9 * max(np.abs(skeleton.offsets).max(), 1e-30)
        )
    )
    told = [f"{ends} end joints" if ends else "", f"{zero} with zero length" if zero else ""]
    return ", ".join(filter(None, told)) or "none with zero length"


def _square(forward, up):
    """``forward`` made square to ``up``, and put on an axis where rounding alone keeps it off one."""
    forward = forward - (forward @ up) * up
    if np.linalg.norm(forward) < 1e-6:
        forward = next(a for a in rot.AXES.values() if abs(a @ up) < 0.5)
    forward = rot.normalise(forward)
    nearest = axis_vector(axis_name(forward))
    return nearest if rot.angle_between(forward, nearest) < np.radians(0.2) else forward


def motion_facts(clip, body, keys=None):
    """Facts and oddities of a placed clip: length, travel, floor, junk. Returns ``(facts, oddities)``.

    ``keys``: at how many times the file has any, where it has none on every frame.
    """
    facts = [
        Fact("Rate", f"{clip.rate:g} fps", f"a frame every {1000 / clip.rate:.2f} ms"),
        Fact("Length", f"{clip.seconds:.2f} s", f"{clip.frames} frame{'s' if clip.frames != 1 else ''}{_begins(clip)}"),
    ]
    if keys is not None:
        facts.append(Fact("Keys", f"at {keys} times", "frames are made from them where they are needed"))
    oddities = []
    if clip.frames <= 2:
        oddities.append(
            Oddity(
                "short",
                f"Holds only {clip.frames} frame{'s' if clip.frames > 1 else ''}: a reference pose or junk.",
                "Remove it from the library if you don't need the pose.",
            )
        )
    if body is None or clip.frames < 1:
        return tuple(facts), tuple(oddities)
    if _collapsed(clip, body):
        oddities.append(
            Oddity(
                "collapsed",
                "The figure has collapsed: head and feet lie together in every frame that was looked at.",
                "Remove it from the library; it holds no usable motion.",
            )
        )
    hips = body.parts["hips"][0]
    feet = [j for part in ("left foot", "right foot", "left toes", "right toes") for j in body.parts.get(part, ())]
    world = world_rotation_rows(clip.skeleton, as_rows(clip.rotations), [hips, *feet])
    places = position_rows(clip.skeleton, world, clip.moving, as_rows(clip.translations), [hips, *feet])
    travel = np.ptp(places[hips][[0, 2]], axis=1)
    still = max(travel) <= 0.3
    facts.append(
        Fact(
            "Travel",
            "in place" if still else "travels",
            f"the hips move {np.hypot(*travel):.1f} m over the floor",
        )
    )
    low = float(np.percentile(places[feet][:, 1].min(0), 10))
    rest_low = _lowest_foot(clip.skeleton, feet) - clip.skeleton.rest_world[0][feet, 1].min()
    floor = float(low + min(rest_low, 0.0))
    facts.append(Fact("Floor", f"feet {round(floor * 100, 1) + 0.0:+.1f} cm", "the lowest feet against height zero"))
    if abs(floor) > 0.025 and clip.frames > 2:
        oddities.append(
            Oddity(
                "floor",
                f"The feet {'hover' if floor > 0 else 'sink'} about {abs(floor) * 100:.1f} cm "
                f"{'over' if floor > 0 else 'under'} the floor.",
                "If they should stand, put the clip on the floor.",
                floor,
            )
        )
    return tuple(facts), tuple(oddities)


def _begins(clip):
    return f", beginning at {clip.start:.2f} s" if abs(clip.start) > 0.5 / clip.rate else ""


def _collapsed(clip, body):
    """Whether head and feet are never further apart than a third of what the bones would allow."""
    joints = [body.parts[p][0] for p in ("head", "left foot", "right foot") if p in body.parts]
    step = max(clip.frames // 12, 1)
    few = clip.picked(slice(None, None, step))
    world = world_rotation_rows(clip.skeleton, as_rows(few.rotations), joints)
    places = position_rows(clip.skeleton, world, clip.moving, as_rows(few.translations), joints)
    rest = clip.skeleton.rest_world[0]
    if len(joints) < 2:
        return False
    apart = max(float(np.linalg.norm(places[joints[0]] - places[j], axis=0).max()) for j in joints[1:])
    return apart < 0.35 * max(float(np.linalg.norm(rest[joints[0]] - rest[j])) for j in joints[1:])


def _lowest_foot(skeleton, feet):
    ends = skeleton.ends[feet, 1]
    return float(np.nanmin(np.concatenate([ends, skeleton.rest_world[0][feet, 1]])))


def place_figure(skeleton, correction=Correction(), declared=Declared()):
    """Examine a skeleton as read; return its Figure with the body's frame in our world."""
    figure = examine(skeleton, correction, declared)
    if figure.body is None:
        return figure
    turn = figure.placement.turn
    body = replace(figure.body, up=rot.rotate(turn, figure.body.up), forward=rot.rotate(turn, figure.body.forward))
    return replace(figure, body=body)
