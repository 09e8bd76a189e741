"""How two skeletons of nearly one make differ: bones more, fewer, renamed, hung elsewhere, of other length."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ..evaluator import EVALUATOR
from ..humanoid.words import shared_prefix

if TYPE_CHECKING:
    from ..skeleton import Skeleton


@dataclass(frozen=True)
class Difference:
    """``kind``: more, fewer, renamed, re-parented or offset. ``bones``: names, as the second skeleton has them."""

    kind: str
    bones: tuple[str, ...]


def _shape(skeleton: Skeleton) -> tuple[dict[str, tuple[str | None, float]], float]:
    # Many are compared with many.
    return EVALUATOR.of("shape", (skeleton,), lambda: _shaped(skeleton))


def _shaped(skeleton: Skeleton) -> tuple[dict[str, tuple[str | None, float]], float]:
    """``{name without prefix: (parent's name without prefix, offset as a share of the whole)}``."""
    prefix = shared_prefix(skeleton.names)
    size = np.linalg.norm(skeleton.offsets[skeleton.parents >= 0], axis=1).sum() or 1.0
    bare = [n.removeprefix(prefix) for n in skeleton.names]
    return {
        n: (bare[p] if p >= 0 else None, float(np.linalg.norm(o)) / size if p >= 0 else 0.0)
        for n, p, o in zip(bare, skeleton.parents, skeleton.offsets)
    }, size


def kinship(a: Skeleton, b: Skeleton) -> float:
    """Share of bone names, prefixes apart, that two skeletons have in common (0 to 1)."""
    return EVALUATOR.of("kinship", (a, b), lambda: _kinship(a, b))


def _kinship(a: Skeleton, b: Skeleton) -> float:
    here, there = set(_shape(a)[0]), set(_shape(b)[0])
    return len(here & there) / max(len(here | there), 1)


def differences(a: Skeleton, b: Skeleton, within: float = 0.002) -> list[Difference]:
    """What ``b`` has otherwise than ``a`` (list of Difference). ``within``: share of all bone lengths that is let pass."""
    (here, size_a), (there, size_b) = _shape(a), _shape(b)
    more, fewer = [n for n in there if n not in here], [n for n in here if n not in there]
    renamed = []
    for old in tuple(fewer):
        # A bone at the same parent with the same length, that only one side calls so, is the same bone.
        twin = next(
            (
                new
                for new in more
                if there[new][0] == here[old][0] and abs(there[new][1] * size_b / size_a - here[old][1]) < within
            ),
            None,
        )
        if twin is not None:
            renamed.append(twin)
            more.remove(twin)
            fewer.remove(old)
    both = [n for n in there if n in here]
    moved = [n for n in both if there[n][0] != here[n][0] and there[n][0] not in renamed]
    common = np.sum([there[n][1] for n in both]) / max(np.sum([here[n][1] for n in both]), 1e-12)
    other = [n for n in both if n not in moved and abs(there[n][1] / max(common, 1e-12) - here[n][1]) > within]
    found = (("more", more), ("fewer", fewer), ("renamed", renamed), ("re-parented", moved), ("offset", other))
    return [Difference(kind, tuple(names)) for kind, names in found if names]
