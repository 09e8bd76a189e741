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
    shape_a, shape_b = set(_shape(a)[0]), set(_shape(b)[0])
    return len(shape_a & shape_b) / max(len(shape_a | shape_b), 1)


def differences(a: Skeleton, b: Skeleton, within: float = 0.002) -> list[Difference]:
    """What ``b`` has otherwise than ``a`` (list of Difference). ``within``: share of all bone lengths that is let pass."""
    (shape_a, size_a), (shape_b, size_b) = _shape(a), _shape(b)
    more, fewer = [n for n in shape_b if n not in shape_a], [n for n in shape_a if n not in shape_b]
    renamed = []
    for old in tuple(fewer):
        # A bone at the same parent with the same length, that only one side calls so, is the same bone.
        twin = next(
            (
                new
                for new in more
                if shape_b[new][0] == shape_a[old][0]
                and abs(shape_b[new][1] * size_b / size_a - shape_a[old][1]) < within
            ),
            None,
        )
        if twin is not None:
            renamed.append(twin)
            more.remove(twin)
            fewer.remove(old)
    both = [n for n in shape_b if n in shape_a]
    moved = [n for n in both if shape_b[n][0] != shape_a[n][0] and shape_b[n][0] not in renamed]
    common = np.sum([shape_b[n][1] for n in both]) / max(np.sum([shape_a[n][1] for n in both]), 1e-12)
    other = [n for n in both if n not in moved and abs(shape_b[n][1] / max(common, 1e-12) - shape_a[n][1]) > within]
    kinds = (("more", more), ("fewer", fewer), ("renamed", renamed), ("re-parented", moved), ("offset", other))
    return [Difference(kind, tuple(names)) for kind, names in kinds if names]
