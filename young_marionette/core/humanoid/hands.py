"""Fingers: which chain at a hand is the thumb, and in which order the others stand."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .words import FINGERS

if TYPE_CHECKING:
    from .tree import Tree
    from .words import NameEvidence


_LEAST = 0.12  # of the forearm: what is shorter is no finger
_MOST_FINGERS = 10  # chains at a joint; more are hair, or a broom


def find_fingers(tree: Tree, names: NameEvidence, hand: int, elbow: int) -> dict[str, tuple[int, ...]]:
    """From finger name to the run of joints, knuckle first, for the chains that begin at ``hand``.

    Where five chains stand, their order across the palm decides; with fewer, the names do. Joints
    that only mark the end of a finger and bones inside the palm are left out, but for the thumb.
    """
    chains = _chains(tree, names, hand, elbow)
    if not chains or len(chains) > _MOST_FINGERS:
        return {}
    said = [_name_said(names, chain) for chain in chains]
    named = [finger for finger in said if finger is not None]
    clear = len(named) == len(said) == len(set(said))
    if len(chains) < 3 or (len(chains) < 5 and clear):
        if not clear:
            return {}
        order = dict(zip(named, chains))
    else:
        order = _by_place(tree, chains, said, hand)
    return {finger: _trim(tree, order[finger], hand, finger) for finger in FINGERS if finger in order}


def _chains(tree: Tree, names: NameEvidence, hand: int, elbow: int) -> list[tuple[int, ...]]:
    starts = list(tree.children[hand])
    palms = [c for c in starts if len(tree.children[c]) >= (2 if len(starts) < 4 else 3)]
    if len(palms) == 1:
        starts = [c for c in starts if c != palms[0]] + list(tree.children[palms[0]])
    forearm = float(np.linalg.norm(tree.points[hand] - tree.points[elbow]))
    chains = [tree.chain(s) for s in starts]
    ways = {c: tree.step(hand, c[0]) for c in chains}
    chains = [
        c
        for c in chains
        if _LEAST * forearm < ways[c] < 1.2 * forearm
        and not any(names.parts[c[0]].get(p) for p in ("twist", "prop", "end"))
    ]
    # A leaf without a tip is a finger among others alike, and else a socket.
    leaves = [c for c in chains if len(c) == 1 and not np.isfinite(tree.ends[c[0], 0])]
    if leaves and np.median([len(c) for c in chains]) > 2:
        chains = [c for c in chains if c not in leaves]
    if len(leaves) == len(chains) < 3:
        return []
    while len(chains) > len(FINGERS) and len(chains) <= _MOST_FINGERS:
        chains.remove(max(chains, key=lambda c: _odd(tree, chains, ways, c, hand)))
    return chains


def _odd(
    tree: Tree, chains: list[tuple[int, ...]], ways: dict[tuple[int, ...], float], chain: tuple[int, ...], hand: int
) -> float:
    """How far a chain at a hand is from what the others are like: something held, rather than a finger."""
    others = [c for c in chains if c != chain]
    usual = float(np.median([ways[c] for c in others]))
    aims = rot.normalise(np.array([tree.line(c)[-1] - tree.points[hand] for c in (chain, *others)]))
    joints = abs(len(chain) - float(np.median([len(c) for c in others])))
    return abs(np.log(ways[chain] / usual)) / 0.35 + float(rot.angle_between(aims[0], aims[1:].mean(0))) + 0.5 * joints


def _name_said(names: NameEvidence, chain: tuple[int, ...]) -> str | None:
    votes = {f: sum(names.weight(j, f) > 0.5 for j in chain) for f in FINGERS}
    best = max(votes, key=votes.__getitem__)
    return best if votes[best] else None


def _by_place(
    tree: Tree, chains: list[tuple[int, ...]], said: Sequence[str | None], hand: int
) -> dict[str, tuple[int, ...]]:
    wrist = tree.points[hand]
    lines = [tree.line(c) for c in chains]
    ends = np.array([line[-1] - wrist for line in lines])
    # From the knuckles on, so that bones inside the palm do not hide the spread of the thumb.
    first = [_knuckle(line, wrist) for line in lines]
    aims = np.array(
        [rot.normalise(line[-1] - (line[k] if k + 1 < len(line) else wrist)) for line, k in zip(lines, first)]
    )
    bases = np.array([np.linalg.norm(line[k] - wrist) for line, k in zip(lines, first)])
    scores = []
    for i in range(len(chains)):
        others = [k for k in range(len(chains)) if k != i]
        away = np.degrees(rot.angle_between(aims[i], aims[others].mean(0))) / 30
        away += np.degrees(rot.angle_between(ends[i], rot.normalise(ends[others]).mean(0))) / 45
        near = 1 - bases[i] / max(bases[others].mean(), 1e-9)
        short = 1 - np.linalg.norm(ends[i]) / max(np.linalg.norm(ends[others], axis=1).mean(), 1e-9)
        scores.append(away + 1.5 * near + short + (0.8 if said[i] == "thumb" else 0.0))
    thumb = int(np.argmax(scores))
    rest = [i for i in range(len(chains)) if i != thumb]
    along = rot.normalise(aims[rest].mean(0))
    knuckles = np.array([line[min(1, len(line) - 1)] - wrist for line in lines])
    spread = knuckles[rest] - knuckles[rest].mean(0)
    spread -= np.outer(spread @ along, along)
    across = np.linalg.svd(spread)[2][0]
    place = knuckles @ across
    away_from_thumb = np.sign(place[rest].mean() - place[thumb]) or 1.0
    rest.sort(key=lambda i: away_from_thumb * place[i])
    named = [finger for i in rest if (finger := said[i]) is not None]
    wanted: Sequence[str] = FINGERS[1 : 1 + len(rest)]
    if len(rest) < 4 and len(named) == len(rest) == len(set(named)):
        wanted = named
    return {"thumb": chains[thumb], **{finger: chains[i] for finger, i in zip(wanted, rest)}}


def _knuckle(line: np.ndarray, wrist: np.ndarray) -> int:
    """The point of a finger's line where it leaves the palm: before it lies a bone inside the palm, if any does."""
    long = np.linalg.norm(line[-1] - wrist)
    inside = len(line) > 1 and np.linalg.norm(line[0] - wrist) < 0.3 * long
    return int(inside and np.linalg.norm(line[1] - line[0]) > 0.3 * long)


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
