"""Reading a body: which joints are hips, spine, limbs and fingers, and which way the figure stands.

What is what comes from the likeliest hypothesis of the whole body (``hypotheses``). Left and right come from the
body's own frame (up along the trunk, forward from heel to toe), not from an axis.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .beside import tell_beside
from .certainty import MOST, calibrated, supported
from .creatures import four_legs, more_arms, no_legs, nobody
from .facing import Facing, find_facing
from .hands import find_fingers
from .hypotheses import Hypothesis, Limbs, Weighed, hypotheses, shares
from .limbs import ARM, LEG, find_pairs
from .moving import Moving, moving
from .open_ends import clip_with_ends, with_ends, without_ends
from .parts import FOUR_LEGS, NEXT, PERSON, REQUIRED
from .tree import Tree
from .words import LEFT, RIGHT, NameEvidence

if TYPE_CHECKING:
    from ..clip import Clip
    from ..skeleton import Skeleton
    from .limbs import Template


_MOST_PAIRS = 40
# Mean certainties of what a body has: with how much nothing is missing, and how much better, and how good, one with ends is.
_COMPLETE, _BETTER, _FAIR = 0.75, 0.1, 0.6


@dataclass(frozen=True)
class Body:
    """What was read: parts to runs of joints, how sure, why, and the body's own frame.

    ``parts`` maps names such as ``"hips"``, ``"spine"`` or ``"left forearm"`` to runs of joint
    numbers, first to last. ``tabled``: the file itself names the parts. ``up`` and ``forward`` are unit vectors in the skeleton's world.
    ``beside``: what every joint is that is no part of the body (see ``beside.KINDS``). ``kind``: a person, or four legs,
    whose forelegs are its arms. ``stature`` is the length from sole to crown along the bones, whatever the pose. ``facing_from``: feet, bends, side words, table, or nothing.
    """

    parts: dict[str, tuple[int, ...]]
    certainty: dict[str, float]
    named: dict[str, float]
    up: np.ndarray
    forward: np.ndarray
    facing_from: str
    facing_certain: bool
    stature: float
    sides_swapped: bool
    names: NameEvidence
    tabled: bool = False
    beside: dict[str, tuple[int, ...]] = field(default_factory=dict)
    kind: str = PERSON


@dataclass(frozen=True)
class Shape:
    """A skeleton in which no body can be read. ``kind``: no legs, or no body."""

    kind: str


def read_body(skeleton: Skeleton, prefix: str | None = None) -> Body | None:
    """Read the body of ``skeleton`` (a Body), or None where it is none of two legs; see ``read_shape``."""
    shape = read_shape(skeleton, prefix)
    return shape if isinstance(shape, Body) else None


def read_shape(skeleton: Skeleton, prefix: str | None = None, clip: Clip | None = None) -> Body | Shape:
    """Read ``skeleton`` (a Body), or tell what it is instead (a Shape).

    ``prefix``: what the bone names begin with, where that is known better than what they share. ``clip``: a motion on
    just these joints, in the same unit and axes, which tells what rests do not: what bends, and where ahead is.
    """
    shape = _read(skeleton, prefix, clip)
    if isinstance(shape, Body) and (shape.kind != PERSON or _likely(shape) > _COMPLETE):
        return shape
    ended = with_ends(skeleton, prefix)
    further = _read(ended, prefix, None if clip is None else clip_with_ends(clip, ended))
    plain = shape if isinstance(shape, Body) else None
    if (
        not isinstance(further, Body)
        or further.kind != PERSON
        or _likely(further) < max(_likely(plain) + _BETTER, _FAIR)
    ):
        return shape
    return without_ends(further, skeleton, plain, prefix)


def _likely(body: Body | None) -> float:
    """The mean certainty of the parts that a body usually has; nothing for those that it lacks."""
    return 0.0 if body is None else float(np.mean([body.certainty.get(part, 0.0) for part in REQUIRED]))


def _read(skeleton: Skeleton, prefix: str | None, clip: Clip | None) -> Body | Shape:
    if len(skeleton) < 6:
        return Shape("no body")
    tree, names = Tree(skeleton), NameEvidence(skeleton.names, prefix)
    moves = moving(tree, clip) if clip is not None else None
    legs, arms = find_pairs(tree, names, _MOST_PAIRS, moves)
    found = hypotheses(tree, names, legs, arms)
    creature = four_legs(tree, names, legs, arms, found)
    if creature is not None:
        return _assemble(tree, names, [creature[0]], creature[1], FOUR_LEGS, set())
    if no_legs(found, legs, arms):
        return Shape("no legs")
    if nobody(found):
        return Shape("no body")
    return _assemble(tree, names, found, moves, PERSON, more_arms(tree, names, arms, found[0]))


def _joint_path(tree: Tree, low: int, high: int) -> tuple[int, list[int]]:
    """The joint that two joints have above them, and the joints from below it to ``high``."""
    over_low = {low, *tree.skeleton.ancestors(low)}
    above_high = [high, *tree.skeleton.ancestors(high)]
    common = next((j for j in above_high if j in over_low), above_high[-1])
    return common, above_high[: above_high.index(common)][::-1]


def _assemble(
    tree: Tree,
    names: NameEvidence,
    found: list[Hypothesis],
    seen: Moving | Facing | None,
    kind: str,
    further: set[int],
) -> Body:
    """The Body of the first hypothesis. ``seen``: a motion, or the axes where they are known; ``further``: more arms."""
    skeleton, points, best = tree.skeleton, tree.points, found[0]
    legs, arms, head = best.legs, best.arms, best.head
    weighed = shares(found)
    parts: dict[str, tuple[int, ...]] = {}
    sure: dict[str, float] = {}
    common, spine = _joint_path(tree, legs.base, arms.base) if arms is not None else (legs.base, [])
    above_legs = skeleton.ancestors(legs.base)
    below_common = above_legs[: above_legs.index(common)] if common in above_legs else []
    hips = [common, *reversed(below_common)]
    parts["hips"] = tuple(hips if legs.base == common else [*hips, legs.base])
    neck: list[int] = []
    if arms is None:
        spine, head = _lone_trunk(tree, names, legs)
    elif head is not None:
        neck = list(tree.path(arms.base, head)[1:-1])
    if spine:
        parts["spine"] = tuple(spine)
    bases = legs.base, arms and arms.base
    sure["hips"] = sure["spine"] = sum(w for w, h in weighed if (h.legs.base, h.arms and h.arms.base) == bases)
    top = spine[-1] if spine else common
    if head is not None and not neck and _is_a_neck(tree, names, head):
        parts["neck"], head = (head,), None
        sure["neck"] = sum(w for w, h in weighed if h.head == best.head)
    if head is not None:
        parts["head"] = (head,)
        sure["head"] = sure["neck"] = sum(w for w, h in weighed if h.head == best.head)
        if neck:
            parts["neck"] = tuple(neck)
    frame = seen if isinstance(seen, Facing) else find_facing(tree, names, legs, arms, top, seen)
    swapped = _add_limbs(tree, names, legs, arms, frame, parts, sure, weighed)
    _add_helpers(tree, names, parts, sure)
    above = skeleton.ancestors(common)
    if above:
        parts["root"], sure["root"] = (above[-1],), 1.0
    named = {part: _named(names, part, run) for part, run in parts.items()}
    for part in parts:
        sided = frame.likely if part.startswith((LEFT, RIGHT)) else 1.0
        sure[part] = MOST * supported(calibrated(sure[part]), named[part]) * sided
    sure = {part: sure[part] for part in parts}
    up = frame.up
    thigh, shin, foot = legs.joints[0].tolist()
    stature = _length(points, (thigh, shin, foot)) + _length(points, (legs.base, *parts.get("spine", ())))
    drop = [float((points[foot] - p) @ up) for p in tree.line(tree.chain(foot))]
    stature += max(*drop, 0.04 * stature) if drop else 0.0
    if head is not None:
        stature += tree.step(top, (*neck, head)[0])
    if kind == FOUR_LEGS:
        heights = tree.points[[j for run in parts.values() for j in run]] @ up
        stature = float(np.ptp(heights)) + max(*drop, 0.0) if drop else float(np.ptp(heights))
    beside = tell_beside(tree, names, parts, up, frame.forward, further)
    return Body(
        parts, sure, named, up, frame.forward, frame.source, frame.certain, stature, swapped, names, False, beside, kind
    )  # fmt: skip


def _is_a_neck(tree: Tree, names: NameEvidence, joint: int) -> bool:
    """Whether a neck ends without a head: its last joint is called a neck, and nothing lies over it."""
    return names.weight(joint, "neck") > 0 > names.weight(joint, "head") and not tree.children[joint]


def _named(names: NameEvidence, part: str, run: tuple[int, ...]) -> float:
    """How far the names of a run of joints speak for a part, from -1 to 1."""
    plain = part.removeprefix(LEFT).removeprefix(RIGHT).strip()
    return float(sum(names.weight(j, plain) for j in run) / len(run))


def _length(points: np.ndarray, joints: tuple[int, ...]) -> float:
    return float(sum(np.linalg.norm(points[b] - points[a]) for a, b in pairwise(joints)))


def _lone_trunk(tree: Tree, names: NameEvidence, legs: Limbs) -> tuple[list[int], int | None]:
    """Spine and head of a figure without arms: the most upright chain over the hips."""
    foot = tree.points[legs.joints[:, 2]].mean(0)
    up = rot.normalise(tree.points[legs.base] - foot)
    ways = [
        (float(rot.normalise(tree.line(tree.chain(c))[-1] - tree.points[legs.base]) @ up), c)
        for c in tree.children[legs.base]
        if c not in legs.starts and tree.step(legs.base, c) > 0
    ]
    if not ways or max(ways)[0] < 0.3:
        return [], None
    chain = tree.chain(max(ways)[1])
    said = [names.weight(j, "head") for j in chain]
    if max(said) > 0:
        at = int(np.argmax(said))
        return list(chain[:at]), chain[at]
    return (list(chain[:-2]), chain[-2]) if len(chain) > 2 else (list(chain[:1]), chain[1] if len(chain) > 1 else None)


def _add_limbs(
    tree: Tree,
    names: NameEvidence,
    legs: Limbs,
    arms: Limbs | None,
    frame: Facing,
    parts: dict[str, tuple[int, ...]],
    sure: dict[str, float],
    weighed: Weighed,
) -> bool:
    """Put both pairs of limbs into ``parts`` by the body's own left; tell whether names disagree."""
    left = np.cross(frame.up, frame.forward)
    votes = 0
    for pair, template in ((legs, LEG), (arms, ARM)):
        if pair is None:
            continue
        across = tree.points[pair.joints] @ left
        apart = across[0] - across[1]
        lateral = apart[int(np.argmax(np.abs(apart) > 1e-6 * tree.reach.max()))]
        order = (0, 1) if lateral > 0 else (1, 0)
        seen = _seen(weighed, template)
        fingers = find_fingers(tree, names, [(int(j[1]), int(j[2])) for j in pair.joints]) if template is ARM else None
        for side, i in zip((LEFT, RIGHT), order):
            said = names.sides[pair.joints[i, 0]]
            votes += 0 if said is None else 1 if said == side else -1
            runs = _limb_runs(tree, names, pair.starts[i], pair.joints[i].tolist(), template)
            parts.update({f"{side} {part}": run for part, run in runs.items() if run})
            joints = pair.joints[i].tolist()
            limb = seen.get(tuple(joints), 0.0)
            sure.update(dict.fromkeys((f"{side} {part}" for part in runs), limb))
            for k, part in enumerate(template.parts):
                sure[f"{side} {part}"] = seen.get((k, joints[k]), 0.0)
            if template is ARM and frame.source == FOUR_LEGS and (toes := tree.chain(joints[2])[1:]):
                parts[f"{side} fore toes"], sure[f"{side} fore toes"] = toes, limb
            elif fingers:
                parts.update({f"{side} {part}": run for part, run in fingers[i][0].items()})
                sure.update({f"{side} {part}": limb * share for part, share in fingers[i][1].items()})
    return votes < 0


def _seen(weighed: Weighed, template: Template) -> dict[tuple[int, ...], float]:
    """How likely the hypotheses are that see a limb in three joints, or one of those as its ``k``-th ``(k, joint)``."""
    share: dict[tuple[int, ...], float] = {}
    for weight, hypothesis in weighed:
        pair = hypothesis.legs if template is LEG else hypothesis.arms
        if pair is not None:
            limbs = pair.joints.tolist()
            keys = {tuple(limb) for limb in limbs} | {(k, j) for limb in limbs for k, j in enumerate(limb)}
            for key in keys:
                share[key] = share.get(key, 0.0) + weight
    return share


def _limb_runs(
    tree: Tree, names: NameEvidence, start: int, joints: list[int], template: Template
) -> dict[str, tuple[int, ...]]:
    """The runs of joints of a limb's parts, of what lies before it and of what hangs at its end."""
    first, middle, end = joints
    runs = {
        template.before: tree.path(start, first)[:-1],
        template.parts[0]: tree.path(first, middle)[:-1],
        template.parts[1]: tree.path(middle, end)[:-1],
        template.parts[2]: (end,),
    }
    if template is LEG:
        runs.pop(template.before)
        runs["toes"] = tree.chain(end)[1:]
    return runs


def _add_helpers(tree: Tree, names: NameEvidence, parts: dict[str, tuple[int, ...]], sure: dict[str, float]) -> None:
    """Twist helpers: childless joints that lie along a limb bone, beside the way to the next joint."""
    taken = {j for run in parts.values() for j in run}
    for side in (LEFT, RIGHT):
        for part, following in NEXT.items():
            run, after = parts.get(f"{side} {part}"), parts.get(f"{side} {following}")
            if not run or not after:
                continue
            start, end = tree.points[run[0]], tree.points[after[0]]
            bone = end - start
            helpers = []
            for joint in tree.skeleton.children[run[0]]:
                share = float((tree.points[joint] - start) @ bone / (bone @ bone))
                aside = np.linalg.norm(tree.points[joint] - start - share * bone)
                if (
                    joint not in taken
                    and not tree.skeleton.children[joint]
                    and -0.01 <= share <= 1.01
                    and aside < 0.1 * np.linalg.norm(bone)
                    and (share < 0.95 or names.weight(joint, "twist") > 0)
                ):
                    helpers.append((share, joint))
            if helpers:
                parts[f"{side} {part} twist"] = tuple(j for _, j in sorted(helpers))
                sure[f"{side} {part} twist"] = 1.0
