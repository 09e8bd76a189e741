"""Reading a body: which joints are hips, spine, limbs and fingers, and which way the figure stands.

All pairs of like branches are tried as legs and arms; each hypothesis is scored as a whole from
lengths, branching, place and names together, so that no single wrong word decides. Left and right
come from the body's own frame (up along the trunk, forward from heel to toe), not from an axis.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations, pairwise
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .hands import find_fingers
from .limbs import ARM, LEG, Tree, find_limb
from .parts import NEXT
from .words import LEFT, RIGHT, NameEvidence

if TYPE_CHECKING:
    from ..skeleton import Skeleton
    from .limbs import Limb, Template


@dataclass(frozen=True)
class Body:
    """What was read: parts to runs of joints, how sure, why, and the body's own frame.

    ``parts`` maps names such as ``"hips"``, ``"spine"`` or ``"left forearm"`` to runs of joint
    numbers, first to last. ``tabled``: the file itself names the parts. ``up`` and ``forward`` are unit vectors in the skeleton's world.
    ``stature`` is the length from sole to crown along the bones, whatever the pose. ``facing_from``: feet, bends, side words, table, or nothing.
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


@dataclass(frozen=True)
class Shape:
    """A skeleton that is no body of two legs and an upright trunk. ``kind``: four legs, no legs, or no body.

    ``up`` and ``forward`` are unit vectors in the skeleton's world, None where nothing tells them.
    """

    kind: str
    up: np.ndarray | None = None
    forward: np.ndarray | None = None


@dataclass(frozen=True)
class _Pair:
    base: int
    starts: tuple[int, int]
    limbs: tuple
    score: float
    reach: float
    fingers: int


_MOST_LIMBS = 24  # at one joint: so many of its chains, the likeliest, are tried as limbs


def _pairs(tree: Tree, names: NameEvidence, template: Template, smallest: float) -> list[_Pair]:
    pairs, limb_at = [], {}

    def limb(start: int) -> Limb | None:
        if start not in limb_at:
            limb_at[start] = find_limb(tree, names, start, template)
        return limb_at[start]

    for base, children in enumerate(tree.skeleton.children):
        long_enough = {c: way for c in children if (way := tree.step(base, c)) >= smallest}
        # A limb needs a partner of like length: what has none is not looked at any closer.
        alike = _with_partner(long_enough)
        tried = [c for c in alike if limb(c) is not None]
        if len(tried) > _MOST_LIMBS:
            scores = {c: made.score for c in tried if (made := limb(c)) is not None}
            tried = sorted(sorted(tried, key=lambda c: -scores[c])[:_MOST_LIMBS], key=tried.index)
        for pair in combinations(tried, 2):
            ways = sorted(long_enough[c] for c in pair)
            limbs = [made for c in pair if (made := limb(c)) is not None]
            if ways[0] < 0.75 * ways[1]:
                continue
            sides = [names.sides[one.joints[0]] for one in limbs]
            score = sum(one.score for one in limbs) / 2 - 8 * np.log(ways[1] / ways[0])
            if set(sides) == {LEFT, RIGHT} and names.key(limbs[0].joints[0]) == names.key(limbs[1].joints[0]):
                score += 0.7
            branches = min(len(tree.skeleton.children[one.joints[2]]) for one in limbs)
            leaves = min(int(tree.leaves[one.joints[2]]) for one in limbs)
            pairs.append(_Pair(base, pair, tuple(limbs), score, float(np.mean(ways)), min(branches, leaves)))
    return pairs


def _with_partner(ways: dict[int, float]) -> list[int]:
    """The keys of ``ways`` whose length another one has too, within a quarter."""
    ordered = sorted(ways, key=ways.__getitem__)
    kept = {key for a, b in pairwise(ordered) if ways[a] >= 0.75 * ways[b] for key in (a, b)}
    return [key for key in ways if key in kept]


def _joint_path(skeleton: Skeleton, low: int, high: int) -> tuple[int, list[int]] | None:
    """The joints from ``low`` (left out) to ``high`` over their common ancestor, and that ancestor."""
    above_low, above_high = [low, *skeleton.ancestors(low)], [high, *skeleton.ancestors(high)]
    over_high = set(above_high)
    common = next((j for j in above_low if j in over_high), None)
    if common is None:
        return None
    down = above_high[: above_high.index(common)]
    return common, down[::-1]


def _hypothesis(tree: Tree, names: NameEvidence, legs: _Pair, arms: _Pair | None) -> tuple[float, int | None] | None:
    """Score legs and arms together; None where they can't belong to one body."""
    skeleton, points = tree.skeleton, tree.points
    score = legs.score - (1.5 if legs.fingers >= 4 else 0.0)
    foot = np.mean([points[limb.joints[2]] for limb in legs.limbs], axis=0) - points[legs.base]
    if arms is None:
        return score - 1.5, None
    inside = {j for start in (*legs.starts, *arms.starts) for j in skeleton.subtree(start)}
    if legs.base in inside or arms.base in inside or set(legs.starts) & set(arms.starts):
        return None
    path = _joint_path(skeleton, legs.base, arms.base)
    if path is None:
        return None
    common, _ = path
    score += arms.score + (1.0 if common == legs.base != arms.base else -1.0 if common == arms.base else 0.3)
    score += 1.5 if arms.fingers >= 4 else 0.0
    score -= min(((np.log(legs.reach / arms.reach) - np.log(1.15)) / 0.35) ** 2, 9) / 2
    trunk = rot.normalise(points[arms.base] - points[legs.base])
    score -= 0.7 * float(rot.normalise(foot) @ trunk)
    head = _head_start(tree, names, arms.base, arms.starts, trunk)
    score += 1.0 if head is not None else -0.5
    return score, head


def _head_start(tree: Tree, names: NameEvidence, base: int, taken: tuple[int, ...], trunk: np.ndarray) -> int | None:
    children, reach, aims, fixed = tree.once(("head", base), lambda: _heads(tree, names, base))
    if not children:
        return None
    widest = max((tree.step(base, c) for c in taken), default=1.0)
    scores = 0.4 + aims @ trunk + fixed + 0.3 * np.minimum(reach / widest, 0.8)
    scores[(reach <= 0) | np.isin(children, taken)] = 0.0
    best = int(np.argmax(scores))
    return children[best] if scores[best] > 0 else None


def _heads(tree: Tree, names: NameEvidence, base: int) -> tuple[tuple[int, ...], np.ndarray, np.ndarray, np.ndarray]:
    """Of each chain that begins at ``base``: its child, reach, direction ``(n, 3)``, and what its names and length say."""
    children = tree.skeleton.children[base]
    chains = [tree.chain(c) for c in children]
    reach = np.array([tree.step(base, c) for c in children])
    ends = np.array([tree.line(chain)[-1] - tree.points[base] for chain in chains]).reshape(-1, 3)
    said = [max(names.weight(j, "neck", "head") for j in chain) + 0.1 * len(chain) for chain in chains]
    return children, reach, rot.normalise(ends), np.array(said)


def read_body(skeleton: Skeleton, prefix: str | None = None) -> Body | None:
    """Read the body of ``skeleton`` (a Body), or None where it is none of two legs; see ``read_shape``."""
    shape = read_shape(skeleton, prefix)
    return shape if isinstance(shape, Body) else None


def read_shape(skeleton: Skeleton, prefix: str | None = None) -> Body | Shape:
    """Read ``skeleton`` (a Body), or tell what it is instead (a Shape).

    ``prefix``: what the bone names begin with, where that is known better than what they share.
    """
    if len(skeleton) < 6:
        return Shape("no body")
    tree, names = Tree(skeleton), NameEvidence(skeleton.names, prefix)
    size = max(float(tree.reach.max()), 1e-12)
    all_legs = sorted(_pairs(tree, names, LEG, 0.2 * size), key=lambda p: -p.score)[:12]
    all_arms = sorted(_pairs(tree, names, ARM, 0.12 * size), key=lambda p: -p.score)[:12]
    ranked = []
    for legs in all_legs:
        for arms in (*all_arms, None):
            result = _hypothesis(tree, names, legs, arms)
            if result is not None:
                ranked.append((result[0], len(ranked), legs, arms, result[1]))
    if not ranked:
        return Shape("no body")
    ranked.sort(key=lambda r: (-r[0], r[1]))
    best = ranked[0]
    rival = next(
        (
            r[0]
            for r in ranked[1:]
            if r[2].starts != best[2].starts or (r[3] and r[3].starts) != (best[3] and best[3].starts)
        ),
        best[0] - 3,
    )
    return _other_shape(tree, names, *best[2:4]) or _assemble(tree, names, *best[2:], margin=best[0] - rival)


def _other_shape(tree: Tree, names: NameEvidence, legs: _Pair, arms: _Pair | None) -> Shape | None:
    """The Shape of what has its limbs otherwise than an upright body has, or None."""
    ways = [tree.points[limb.joints[2]] - tree.points[limb.joints[0]] for limb in legs.limbs]
    reach = np.mean(ways, axis=0)
    if arms is None:
        hands = legs.fingers >= 4 or _speak(names, legs, ARM) > max(_speak(names, legs, LEG), 0)
        # Limbs that are spread to both sides, as arms in a T-pose, unless they are called legs.
        spread = float(rot.normalise(ways[0]) @ rot.normalise(ways[1])) < 0.35 and _speak(names, legs, LEG) <= 0
        return Shape("no legs") if hands or spread else None
    front = np.mean([tree.points[limb.joints[2]] - tree.points[limb.joints[0]] for limb in arms.limbs], axis=0)
    trunk = tree.points[arms.base] - tree.points[legs.base]
    down = rot.normalise(reach)
    alike = float(down @ rot.normalise(front)) > 0.8 and abs(float(down @ rot.normalise(trunk))) < 0.45
    ends = [np.mean([tree.line(limb.chain)[-1] for limb in pair.limbs], axis=0) for pair in (legs, arms)]
    level = abs(float((ends[0] - ends[1]) @ down)) < 0.3 * np.linalg.norm(reach)
    # A person on hands and knees has arms by name.
    if alike and level and _speak(names, arms, ARM) < 0.5:
        up = _nearest_axis(-down)
        return Shape("four legs", up, rot.normalise(trunk - (trunk @ up) * up))
    return None


def _speak(names: NameEvidence, pair: _Pair, template: Template) -> float:
    """How far the names of a pair of limbs speak for a template's parts, from -1 to 1."""
    weights = [names.weight(j, part) for limb in pair.limbs for j, part in zip(limb.joints, template.parts)]
    return float(np.mean(weights))


def _assemble(
    tree: Tree, names: NameEvidence, legs: _Pair, arms: _Pair | None, head_start: int | None, margin: float
) -> Body:
    skeleton, points = tree.skeleton, tree.points
    parts, sure, spine, common = {}, {}, [], legs.base
    if arms is not None:
        common, spine = _joint_path(skeleton, legs.base, arms.base) or (common, spine)
    above_legs = skeleton.ancestors(legs.base)
    below_common = above_legs[: above_legs.index(common)] if common in above_legs else []
    hips = [common, *reversed(below_common)]
    parts["hips"] = tuple(hips if legs.base == common else [*hips, legs.base])
    if arms is None:
        spine, head_start = _lone_trunk(tree, names, legs)
    if spine:
        parts["spine"] = tuple(spine)
    top = spine[-1] if spine else common
    base_sure = 0.6 + 0.2 * np.tanh(max(margin, 0.0))
    for part in tuple(parts):
        sure[part] = base_sure
    if head_start is not None:
        run = _split_neck(tree, names, head_start, legs)
        if run[:-1]:
            parts["neck"], sure["neck"] = run[:-1], base_sure - 0.1
        parts["head"], sure["head"] = run[-1:], base_sure
    frame = _frame(tree, names, legs, arms, top)
    swapped = _add_limbs(tree, names, legs, arms, frame, parts, sure, base_sure)
    _add_helpers(tree, names, parts, sure)
    above = skeleton.ancestors(common)
    if above:
        parts["root"], sure["root"] = (above[-1],), 0.9
    named = {
        part: float(
            np.mean(
                [names.weight(j, part.split(" ", 1)[1] if part.startswith(("left ", "right ")) else part) for j in run]
            )
        )
        for part, run in parts.items()
    }
    for part in parts:
        sure[part] = float(np.clip(sure[part] + 0.2 * named[part], 0.05, 0.99))
    up, forward, source, certain = frame
    thigh, shin, foot = legs.limbs[0].joints
    stature = _length(points, (thigh, shin, foot)) + _length(points, (legs.base, *parts.get("spine", ())))
    drop = [float((points[foot] - p) @ up) for p in tree.line(tree.chain(foot))]
    stature += max(*drop, 0.04 * stature) if drop else 0.0
    stature += tree.step(top, head_start) if head_start is not None else 0.0
    return Body(parts, sure, named, up, forward, source, certain, stature, swapped, names)


def _length(points: np.ndarray, joints: tuple[int, ...]) -> float:
    return float(sum(np.linalg.norm(points[b] - points[a]) for a, b in pairwise(joints)))


def _lone_trunk(tree: Tree, names: NameEvidence, legs: _Pair) -> tuple[list[int], int | None]:
    """Spine and head of a figure without arms: the most upright chain over the hips."""
    foot = np.mean([tree.points[limb.joints[2]] for limb in legs.limbs], axis=0)
    start = _head_start(tree, names, legs.base, legs.starts, rot.normalise(tree.points[legs.base] - foot))
    if start is None:
        return [], None
    chain = tree.chain(start)
    return (list(chain[:-2]), chain[-2]) if len(chain) > 2 else (list(chain[:1]), chain[1] if len(chain) > 1 else None)


def _split_neck(tree: Tree, names: NameEvidence, start: int, legs: _Pair) -> tuple[int, ...]:
    """The neck joints and, last, the head joint, of the chain that begins at ``start``."""
    chain = tree.chain(start)
    said = [names.weight(j, "head") for j in chain]
    if max(said) > 0 and names.weight(chain[int(np.argmax(said))], "end") <= 0:
        return chain[: int(np.argmax(said)) + 1]
    crowd = next((i for i, j in enumerate(chain) if len(tree.skeleton.children[j]) > 1), None)
    if crowd is not None:
        return chain[: crowd + 1]
    has_tip = np.isfinite(tree.ends[chain[-1], 0])
    if has_tip or len(chain) == 1:
        return chain
    # The last joint is the head, or only marks its end: heads are longer than necks.
    last = np.linalg.norm(tree.points[chain[-1]] - tree.points[chain[-2]])
    leg = _length(tree.points, legs.limbs[0].joints)
    return chain[:-1] if last > 0.17 * leg or len(chain) > 2 else chain


def _frame(
    tree: Tree, names: NameEvidence, legs: _Pair, arms: _Pair | None, top: int
) -> tuple[np.ndarray, np.ndarray, str, bool]:
    """Up and forward of the body, with what the facing was taken from."""
    points = tree.points
    hips = np.mean([points[limb.joints[0]] for limb in legs.limbs], axis=0)
    feet = np.mean([points[limb.joints[2]] for limb in legs.limbs], axis=0)
    trunk = points[top] - hips
    up = _nearest_axis(trunk if np.linalg.norm(trunk) > 1e-9 else hips - feet)
    a, b = legs.limbs
    across = points[a.joints[0]] - points[b.joints[0]]
    if np.linalg.norm(across) < 1e-6 * tree.reach.max():
        across = points[a.joints[1]] - points[b.joints[1]]
    forward = rot.normalise(np.cross(across - (across @ up) * up, up))
    leg = _length(points, a.joints)
    toes = np.mean([tree.line(tree.chain(limb.joints[2]))[-1] - points[limb.joints[2]] for limb in legs.limbs], axis=0)
    if abs(toes @ forward) > 0.03 * leg:
        return up, forward * np.sign(toes @ forward), "feet", True
    bend = np.mean([_bend(points, limb.joints) for limb in legs.limbs], axis=0) @ forward / leg
    if arms is not None:
        bend -= np.mean([_bend(points, limb.joints) for limb in arms.limbs], axis=0) @ forward / leg
    if abs(bend) > 0.01:
        return up, forward * np.sign(bend), "bends", True
    votes = sum(
        {LEFT: 1, RIGHT: -1}.get(side, 0)
        * np.sign(points[limb.joints[0]] @ np.cross(up, forward) - hips @ np.cross(up, forward))
        for limb in legs.limbs
        for side in [names.sides[limb.joints[0]]]
    )
    if votes:
        return up, forward * np.sign(votes), "side words", True
    guess = forward @ np.array([0.0, -0.5 if abs(up[1]) < 0.5 else 0.0, 1.0])
    return up, forward * (np.sign(guess) or 1.0), "nothing", False


def _bend(points: np.ndarray, joints: tuple[int, ...]) -> np.ndarray:
    start, middle, end = (points[j] for j in joints)
    line = rot.normalise(end - start)
    out = middle - start
    return out - (out @ line) * line


def _nearest_axis(v: np.ndarray) -> np.ndarray:
    axis = int(np.argmax(np.abs(v)))
    up = np.zeros(3)
    up[axis] = np.sign(v[axis])
    return up


def _add_limbs(
    tree: Tree,
    names: NameEvidence,
    legs: _Pair,
    arms: _Pair | None,
    frame: tuple[np.ndarray, np.ndarray, str, bool],
    parts: dict[str, tuple[int, ...]],
    sure: dict[str, float],
    base_sure: float,
) -> bool:
    """Put both pairs of limbs into ``parts`` by the body's own left; tell whether names disagree."""
    up, forward = frame[:2]
    left = np.cross(up, forward)
    votes = 0
    for pair, template in ((legs, LEG), (arms, ARM)):
        if pair is None:
            continue
        across = [tree.points[list(limb.joints)] @ left for limb in pair.limbs]
        apart = across[0] - across[1]
        lateral = apart[int(np.argmax(np.abs(apart) > 1e-6 * tree.reach.max()))]
        order = pair.limbs if lateral > 0 else pair.limbs[::-1]
        for side, limb in zip((LEFT, RIGHT), order):
            said = names.sides[limb.joints[0]]
            votes += 0 if said is None else 1 if said == side else -1
            _add_limb(tree, names, limb, template, side, parts, sure, base_sure + 0.1 * np.tanh(limb.margin) - 0.1)
    return votes < 0


def _add_limb(
    tree: Tree,
    names: NameEvidence,
    limb: Limb,
    template: Template,
    side: str,
    parts: dict[str, tuple[int, ...]],
    sure: dict[str, float],
    certainty: float,
) -> None:
    chain, (a, b, c) = limb.chain, limb.cuts
    runs = {
        template.before: chain[:a],
        template.parts[0]: chain[a:b],
        template.parts[1]: chain[b:c],
        template.parts[2]: chain[c : c + 1],
    }
    if template is LEG:
        runs.pop("hip helper")
        runs["toes"] = chain[c + 1 :]
    else:
        runs.update(find_fingers(tree, names, chain[c], limb.joints[1]))
    for part, run in runs.items():
        if run:
            parts[f"{side} {part}"] = tuple(int(j) for j in run)
            sure[f"{side} {part}"] = certainty


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
                sure[f"{side} {part} twist"] = 0.8
