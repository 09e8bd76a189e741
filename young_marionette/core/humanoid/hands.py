"""Fingers: which chain at a hand is the thumb, in which order the others stand, and how sure that is.

All ways to see three to five of the chains at a hand as fingers are scored as a hand, by what is known of hands: the
thumb begins nearer to the wrist, aims away and ends beside the row of the others, which are alike and stand in a line.
Both hands are read together, so that what one of them holds is no finger.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .limbs import misfit
from .words import FINGERS

if TYPE_CHECKING:
    from .tree import Tree
    from .words import NameEvidence

Runs = dict[str, tuple[int, ...]]
Weighed = tuple[np.ndarray, np.ndarray]  # a share for each way to see a hand, and its chain for each finger (ways, 5)

_NEAREST, _FARTHEST = 0.03, 1.2  # of the forearm: what ends nearer or farther is no finger
_MOST_CHAINS = 10  # at a joint; more are hair, or a broom
_MOST = 7  # that are looked at
_WARMTH = 0.9
_NOTHING = -7.8  # what "no hand at all" scores
_FEWER = {5: 0.0, 4: -2.0, 3: -3.0}
_LEFT_OUT, _LEAF_LEFT_OUT = -3.0, -1.0
_UNLIKE = 1.2  # a joint more or fewer than its neighbours
_SAID = 3.0
_MARKS, _RIVALS = 0.08, 16
# Means and spreads: logarithms of lengths against the other fingers', angles in radians, shares of the row's width.
_REACH, _AIM, _LINE, _GAP = (0.0, 0.18), (0.0, 0.25), (0.0, 0.3), (0.8, 0.3)
_THUMB_BASE, _THUMB_REACH, _THUMB_AIM, _THUMB_ASIDE = (-0.75, 0.45), (-0.35, 0.22), (0.8, 0.35), (0.8, 0.5)


def _choices(count: int) -> tuple[np.ndarray, np.ndarray]:
    """Ways to see ``count`` chains as a hand: ``(others (ways, count), thumb (ways,))``."""
    others, thumbs = [], []
    for fingers in range(3, min(count, len(FINGERS)) + 1):
        for chosen in combinations(range(count), fingers):
            for thumb in chosen:
                others.append([i in chosen and i != thumb for i in range(count)])
                thumbs.append(thumb)
    return np.array(others), np.array(thumbs)


_CHOICES = {count: _choices(count) for count in range(3, _MOST + 1)}


@dataclass(frozen=True, eq=False)
class _Chains:
    """The chains at a hand that may be fingers, with their places from the wrist: where they leave the palm, where they
    end, and the way between; ``marks``: how far a chain's end and beginning are from what both hands have."""

    wrist: np.ndarray
    joints: list[tuple[int, ...]]
    knuckles: np.ndarray
    bases: np.ndarray
    ends: np.ndarray
    aims: np.ndarray
    counts: np.ndarray
    leaves: np.ndarray
    marks: np.ndarray


def find_fingers(tree: Tree, names: NameEvidence, arms: list[tuple[int, int]]) -> list[tuple[Runs, dict[str, float]]]:
    """Per hand, from finger name to the run of joints, knuckle first, and to how likely that is.

    ``arms``: the joints of elbow and hand, for both sides. Joints that only mark the end of a finger and bones inside
    the palm are left out, but for the thumb.
    """
    hands = [_chains(tree, names, hand, elbow) for elbow, hand in arms]
    seen = [_scored(names, c) if _is_open(names, c) else None for c in hands]
    told = [None if s is None else _weighed(*s) for s in seen]
    if seen[0] is not None and seen[1] is not None:
        told = list(_together(hands[0], hands[1], seen[0], seen[1]))
    return [
        _named(tree, names, hand, chains) if of is None else _told(tree, hand, chains, of)
        for (_, hand), chains, of in zip(arms, hands, told)
    ]


def _weighed(score: np.ndarray, fingers: np.ndarray) -> Weighed:
    """How likely each way to see a hand is, beside that it is none."""
    weights = np.exp((score - max(score.max(), _NOTHING)) / _WARMTH)
    return weights / (weights.sum() + np.exp((_NOTHING - max(score.max(), _NOTHING)) / _WARMTH)), fingers


def _together(a: _Chains, b: _Chains, seen_a: Weighed, seen_b: Weighed) -> tuple[Weighed, Weighed]:
    """Both hands seen alike: what is a finger on one of them is so on the other."""
    best = [np.argsort(-score)[:_RIVALS] for score, _ in (seen_a, seen_b)]
    (score_a, fingers_a), (score_b, fingers_b) = ((s[0][k], s[1][k]) for s, k in zip((seen_a, seen_b), best))
    has_a, has_b = fingers_a[:, None] >= 0, fingers_b[None] >= 0
    apart = np.linalg.norm(a.marks[fingers_a][:, None] - b.marks[fingers_b][None], axis=3)
    unlike = np.where(has_a & has_b, np.minimum(apart / _MARKS, 3.0), np.where(has_a != has_b, 3.0, 0.0)).sum(2)
    total = score_a[:, None] + score_b[None] - unlike
    weights, _ = _weighed(total.ravel() - _NOTHING, total.ravel())
    weights = weights.reshape(total.shape)
    return (weights.sum(1), fingers_a), (weights.sum(0), fingers_b)


def _named(tree: Tree, names: NameEvidence, hand: int, chains: _Chains) -> tuple[Runs, dict[str, float]]:
    """Fingers as their names have it, where each has one of its own."""
    said = _names_of(names, chains)
    if not said:
        return {}, {}
    return {f: _trim(tree, chains.joints[said.index(f)], hand, f) for f in FINGERS if f in said}, dict.fromkeys(
        said, 0.95
    )


def _names_of(names: NameEvidence, chains: _Chains) -> list[str]:
    """The finger that each chain is named after; empty where two are alike, or any is silent."""
    votes = [{f: sum(names.weight(j, f) > 0.5 for j in chain) for f in FINGERS} for chain in chains.joints]
    said = [max(v, key=v.__getitem__) for v in votes if any(v.values())]
    return said if len(said) == len(chains.joints) == len(set(said)) else []


def _is_open(names: NameEvidence, chains: _Chains) -> bool:
    """Whether places have to tell; few fingers with names need none."""
    count = len(chains.joints)
    return count >= 3 and (count >= 5 or not _names_of(names, chains))


def _told(tree: Tree, hand: int, chains: _Chains, weighed: Weighed) -> tuple[Runs, dict[str, float]]:
    """The likeliest chain for each finger, as runs of joints, and how likely it is."""
    weights, fingers = weighed
    best = int(np.argmax(weights))
    if weights.sum() < 0.05:
        return {}, {}
    runs, sure = {}, {}
    for k, finger in enumerate(FINGERS):
        chain = int(fingers[best, k])
        if chain >= 0:
            runs[finger] = _trim(tree, chains.joints[chain], hand, finger)
            sure[finger] = float(weights[fingers[:, k] == chain].sum())
    return runs, sure


def _chains(tree: Tree, names: NameEvidence, hand: int, elbow: int) -> _Chains:
    starts = list(tree.children[hand])
    few = sum(tree.sizes[c] > 1 or tree.has_tip[c] for c in starts) < 4
    palms = [c for c in starts if len(tree.children[c]) >= (2 if few else 3)]
    if len(palms) == 1:
        starts = [c for c in starts if c != palms[0]] + list(tree.children[palms[0]])
    wrist, forearm = tree.points[hand], float(np.linalg.norm(tree.points[hand] - tree.points[elbow]))
    chains = [tree.chain(s) for s in starts]
    ways = {c: tree.step(hand, c[0]) for c in chains}
    chains = [
        c
        for c in chains
        if _NEAREST * forearm < ways[c] < _FARTHEST * forearm
        and not any(names.parts[c[0]].get(p) for p in ("twist", "prop", "end", "socket"))
    ]
    leaves = [len(c) == 1 and not np.isfinite(tree.ends[c[0], 0]) for c in chains]
    if len(chains) > _MOST_CHAINS or (all(leaves) and len(leaves) < 3):
        chains = []
    while len(chains) > _MOST:
        chains.remove(max(chains, key=lambda c: _odd(tree, chains, ways, c, hand)))
    lines = [tree.line(c) for c in chains]
    # From the knuckles on, so that bones inside the palm do not hide the spread of the thumb.
    first = _knuckles(lines, wrist)
    bases = np.array([line[k] - wrist for line, k in zip(lines, first)]).reshape(-1, 3)
    ends = np.array([line[-1] - wrist for line in lines]).reshape(-1, 3)
    aims = np.array([line[-1] - line[k] if k + 1 < len(line) else line[-1] - wrist for line, k in zip(lines, first)])
    middle = ends.mean(0) if len(ends) else ends.sum(0)
    fixed = np.array([tree.points[elbow] - wrist, np.zeros(3), middle])
    marks = np.concatenate([np.linalg.norm(p[:, None] - fixed, axis=2) for p in (bases, ends)], axis=1) / forearm
    return _Chains(
        wrist, chains,
        np.array([line[min(1, len(line) - 1)] - wrist for line in lines]).reshape(-1, 3),
        bases, ends, rot.normalise(aims.reshape(-1, 3)),
        np.array([len(c) - k for c, k in zip(chains, first)]),
        np.array([len(c) == 1 and not np.isfinite(tree.ends[c[0], 0]) for c in chains], bool),
        np.concatenate([marks, 0.2 * np.array([[len(c)] for c in chains]).reshape(-1, 1)], axis=1),
    )  # fmt: skip


def _odd(
    tree: Tree, chains: list[tuple[int, ...]], ways: dict[tuple[int, ...], float], chain: tuple[int, ...], hand: int
) -> float:
    """How far a chain at a hand is from what the others are like: something held, rather than a finger."""
    others = [c for c in chains if c != chain]
    usual = float(np.median([ways[c] for c in others]))
    aims = rot.normalise(np.array([tree.line(c)[-1] - tree.points[hand] for c in (chain, *others)]))
    joints = abs(len(chain) - float(np.median([len(c) for c in others])))
    return abs(np.log(ways[chain] / usual)) / 0.35 + float(rot.angle_between(aims[0], aims[1:].mean(0))) + 0.5 * joints


def _scored(names: NameEvidence, chains: _Chains) -> tuple[np.ndarray, np.ndarray]:
    """What speaks for each way to see a hand ``(ways,)``, and its chain for each finger ``(ways, 5)``, -1 for none."""
    others, thumb = _CHOICES[len(chains.joints)]
    rows, ways = others.sum(1), np.arange(len(thumb))
    mean = lambda values: others @ values / rows.reshape(-1, *[1] * (values.ndim - 1))  # noqa: E731

    def cost(value: np.ndarray, expected: tuple[float, float]) -> np.ndarray:
        return np.where(others, misfit(value, expected), 0.0).sum(1)

    reach, base = (np.log(np.maximum(np.linalg.norm(v, axis=1), 1e-9)) for v in (chains.ends, chains.bases))
    along = rot.normalise(mean(chains.aims))
    angles = np.arccos(np.clip(along @ chains.aims.T, -1, 1))
    used = others.copy()
    used[ways, thumb] = True
    score = np.array([_FEWER[n + 1] for n in rows])
    usual = np.sort(np.where(others, chains.counts, np.inf), axis=1)[ways, (rows - 1) // 2]
    leaf = chains.leaves & (usual[:, None] > 1)
    score = score + np.where(used, 0.0, np.where(leaf, _LEAF_LEFT_OUT, _LEFT_OUT)).sum(1)
    score -= cost(reach - mean(reach)[:, None], _REACH) + cost(angles, _AIM)
    score -= _UNLIKE * np.where(others, np.abs(chains.counts - usual[:, None]), 0.0).sum(1)
    # The row that the others stand in: its direction across the palm, and their places along it.
    spread = np.where(others[..., None], chains.knuckles - mean(chains.knuckles)[:, None], 0.0)
    spread -= np.einsum("wnc,wc->wn", spread, along)[..., None] * along[:, None]
    sizes, axes = np.linalg.eigh(np.einsum("wni,wnj->wij", spread, spread))
    across = axes[:, :, 2]
    wide = np.sqrt(np.maximum(sizes, 1e-18))
    score -= misfit(wide[:, 1] / wide[:, 2], _LINE)
    place, tips = chains.knuckles @ across.T, chains.ends @ across.T  # (chains, ways)
    place, tips = place.T, tips.T
    aside = np.sign(np.sum(np.where(others, place, 0.0), 1) / rows - tips[ways, thumb])
    place, tips = place * aside[:, None], tips * aside[:, None]
    order = np.argsort(np.where(others, place, np.inf), axis=1)
    stand = np.take_along_axis(np.where(others, place, np.nan), order, 1)[:, :4]
    gaps = np.diff(stand, axis=1)
    width = np.maximum(np.nanmax(stand, 1) - stand[:, 0], 1e-9)
    least = np.nanmin(gaps, 1) / (width / np.maximum(rows - 1, 1))
    score -= misfit(np.minimum(least, _GAP[0]), _GAP)
    points = bool((chains.counts == 1).all() and np.allclose(chains.bases, chains.ends))  # knuckles alone, without ends
    score -= misfit(base[thumb] - mean(base), _THUMB_BASE)
    if not points:
        score -= misfit(reach[thumb] - mean(reach), _THUMB_REACH)
    score -= misfit(angles[ways, thumb], _THUMB_AIM)
    beyond = (np.where(others, tips, np.inf).min(1) - tips[ways, thumb]) / width
    score -= misfit(np.clip(beyond, -3, 1.2), (0.0, 0.5) if points else _THUMB_ASIDE)
    score -= 0.4 * np.abs(chains.counts[thumb] - usual)
    score -= 1.5 * leaf[ways, thumb]
    fingers = np.full((len(thumb), len(FINGERS)), -1)
    fingers[:, 0] = thumb
    seats = np.arange(4)[None] < rows[:, None]
    fingers[:, 1:] = np.where(seats, np.pad(order, ((0, 0), (0, 4)))[:, :4], -1)
    said = np.array([[max(names.weight(j, f) for j in chain) for f in FINGERS] for chain in chains.joints])
    # Fingers of one joint without an end have no directions: all that is known of them is worth less.
    if np.median(chains.counts) < 2 and np.isclose(chains.bases, chains.ends).all(1).mean() > 0.4:
        score = score / 3
    score += _SAID * np.where(fingers >= 0, said[fingers, np.arange(len(FINGERS))], 0.0).sum(1)
    return score, fingers


def _knuckles(lines: list[np.ndarray], wrist: np.ndarray) -> list[int]:
    """The point of each finger's line where it leaves the palm: before it lies a bone inside the palm, if most have one."""
    starts = [np.linalg.norm(line[0] - wrist) / np.linalg.norm(line[-1] - wrist) for line in lines]
    inside = [
        len(line) > 1 and start < 0.4 and np.linalg.norm(line[1] - line[0]) > 0.3 * np.linalg.norm(line[-1] - wrist)
        for line, start in zip(lines, starts)
    ]
    clear = [i and start < 0.3 for i, start in zip(inside, starts)]
    return [int(i) for i in (inside if sum(clear) >= 0.5 * len(lines) else clear)]


def _trim(tree: Tree, chain: tuple[int, ...], hand: int, finger: str) -> tuple[int, ...]:
    """The three moving joints of a finger's chain, or fewer where it has fewer."""
    run = list(chain)
    if len(run) > 3 and not np.isfinite(tree.ends[run[-1], 0]):
        steps = [np.linalg.norm(tree.points[b] - tree.points[a]) for a, b in zip([hand, *run], run)]
        inside_palm = steps[0] < 0.6 * steps[1]
        if not inside_palm or len(run) > 4 or finger == "thumb":
            run.pop()
    if len(run) > 3 and finger != "thumb":
        run = run[-3:]
    return tuple(run)
