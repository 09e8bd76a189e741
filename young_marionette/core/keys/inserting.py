"""Keys put in between others, without the motion changing."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from .sampler import Interpolation, Sampler, hermite

if TYPE_CHECKING:
    from numpy.typing import ArrayLike

_FITTED_AT = 0.5 - 0.5 * np.cos(np.pi * (np.arange(16) + 0.5) / 16)  # Chebyshev: near the least maximum


def with_keys(sampler: Sampler, times: ArrayLike, turns: bool = False) -> Sampler:
    """The sampler with keys also at ``times`` (seconds; what lies outside of its own, or on them, is left out).

    Exact; rotations (``turns``) in smooth in-betweens are as near as two smooth ones come to the one before: both
    sides of each new key are fitted to it by least squares.
    """
    own = sampler.times
    wanted = np.unique(np.asarray(times, float))
    new = wanted[(wanted > own[0]) & (wanted < own[-1]) & ~np.isin(wanted, own)]
    if not len(new):
        return sampler
    every = np.union1d(own, new)
    low = np.clip(np.searchsorted(own, every, side="right") - 1, 0, len(own) - 2)
    ways = sampler.interpolation[low[:-1]]
    values = sampler.at(every, turns)
    old = np.isin(every, own)
    values[old] = sampler.values
    if turns:
        signs = np.sum(values[1:] * values[:-1], -1) < 0
        # Only new keys are turned over: the others' signs belong to their tangents.
        for i in np.flatnonzero(signs & ~old[1:]) + 1:
            values[i:][: _run(~old[i:])] *= -1
    if sampler.tangents_in is None or sampler.tangents_out is None:
        return Sampler(every, values, ways)
    inner, outer = np.zeros_like(values), np.zeros_like(values)
    inner[old], outer[old] = sampler.tangents_in, sampler.tangents_out
    made = Sampler(every, values, ways, inner, outer)
    touched = np.unique(np.searchsorted(own, new) - 1)
    for between in touched[sampler.interpolation[touched] == Interpolation.CUBICSPLINE]:
        a, b = (int(np.searchsorted(every, own[between + k])) for k in (0, 1))
        _fit(made, sampler, a, b, turns)
    return made


def _run(mask: np.ndarray) -> int:
    """How many are true from the first one on."""
    return len(mask) if mask.all() else int(np.argmin(mask))


def _fit(made: Sampler, sampler: Sampler, first: int, last: int, turns: bool) -> None:
    """Fit the tangents of smooth in-betweens, from key ``first`` to ``last``, to what another sampler is there."""
    assert made.tangents_in is not None and made.tangents_out is not None
    for i in range(first, last):
        start, length = made.times[i], made.times[i + 1] - made.times[i]
        target = sampler.at(start + _FITTED_AT * length, turns)
        head, tail, out, inner = hermite(_FITTED_AT[:, None])
        base = head * made.values[i] + tail * made.values[i + 1]
        ways = np.concatenate([out, inner], 1) * length
        if turns:
            # How long a quaternion is does not count: only what is across the target has to vanish.
            across = np.eye(4) - target[:, :, None] * target[:, None, :]
            matrix = np.einsum("nxy,nw->nxwy", across, ways).reshape(-1, 8)
            wanted = -np.einsum("nxy,ny->nx", across, base).ravel()
            # Of all that fit, that which is nearest to what would be fitted with the length.
            usual = np.linalg.lstsq(
                ways, np.where(target @ made.values[i][:, None] < 0, -target, target) - base, rcond=None
            )[0]
            found = usual + np.linalg.lstsq(matrix, wanted - matrix @ usual.ravel(), rcond=1e-9)[0].reshape(2, 4)
        else:
            found = np.linalg.lstsq(ways, target - base, rcond=None)[0]
        made.tangents_out[i], made.tangents_in[i + 1] = found


def straight_tangents(a: np.ndarray, b: np.ndarray, seconds: np.ndarray, turns: bool) -> tuple[np.ndarray, np.ndarray]:
    """The tangents ``(n, c)`` out of ``a`` and into ``b`` of straight in-betweens of some ``seconds (n,)``.

    Of rotations, whose signs go on (see ``signed``): of the great arc between them.
    """
    slope = (b - a) / seconds[:, None]
    if not turns:
        return slope, slope
    dot = np.clip(np.sum(a * b, -1, keepdims=True), -1, 1)
    angle = np.arccos(dot)
    sine = np.sin(angle)
    factor = np.divide(angle, sine, out=np.ones_like(sine), where=sine > 1e-9) / seconds[:, None]
    return (b - dot * a) * factor, (dot * b - a) * factor


def signed(sampler: Sampler) -> Sampler:
    """Rotations with signs that go on through straight and held in-betweens, where they do not matter; the same motion."""
    flips = (np.sum(sampler.values[1:] * sampler.values[:-1], -1) < 0) & (
        sampler.interpolation != Interpolation.CUBICSPLINE
    )
    if not flips.any():
        return sampler
    sign = np.concatenate([[1.0], np.where(np.logical_xor.accumulate(flips), -1.0, 1.0)])[:, None]
    inner, outer = (None if t is None else t * sign for t in (sampler.tangents_in, sampler.tangents_out))
    return replace(sampler, values=sampler.values * sign, tangents_in=inner, tangents_out=outer)


def with_ways(sampler: Sampler, ways: np.ndarray, turns: bool) -> Sampler:
    """With other interpolations ``(keys - 1,)``; in-betweens that become smooth start as they were when straight."""
    sampler = signed(sampler) if turns else sampler
    inner, outer = _tangents(sampler)
    new = np.flatnonzero((ways == Interpolation.CUBICSPLINE) & (sampler.interpolation != Interpolation.CUBICSPLINE))
    if len(new):
        length = np.maximum(np.diff(sampler.times)[new], 1e-9)
        outer[new], inner[new + 1] = straight_tangents(sampler.values[new], sampler.values[new + 1], length, turns)
    if not (ways == Interpolation.CUBICSPLINE).any():
        return replace(sampler, interpolation=ways, tangents_in=None, tangents_out=None)
    return replace(sampler, interpolation=ways, tangents_in=inner, tangents_out=outer)


def _tangents(sampler: Sampler) -> tuple[np.ndarray, np.ndarray]:
    both = sampler.tangents_in, sampler.tangents_out
    inner, outer = (np.zeros_like(sampler.values) if t is None else t.copy() for t in both)
    return inner, outer
