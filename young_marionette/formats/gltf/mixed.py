"""In-betweens of different kinds in one channel, of which glTF has one kind only: all written as CUBICSPLINE, and told again.

A straight in-between has the tangents of a straight line. A hold has a second key with the held value, a sixty-fourth of a
frame before the next one: on every frame the motion is the same.
"""

from __future__ import annotations

import numpy as np

from ...core.keys.inserting import signed, straight_tangents
from ...core.keys.sampler import Interpolation, Sampler

_SHORT = 1 / 64  # of a frame: before the end of a hold
_ALIKE = 1e-5  # of what tangents are: as near as 32-bit numbers bring those of straight lines


def as_cubic(sampler: Sampler, rate: float, turns: bool) -> Sampler:
    """A sampler whose in-betweens differ, as one of smooth ones alone."""
    sampler = signed(sampler) if turns else sampler
    ways, times, values = sampler.interpolation, sampler.times, sampler.values
    inner, outer = (
        np.zeros_like(values) if t is None else t.copy() for t in (sampler.tangents_in, sampler.tangents_out)
    )
    straight = np.flatnonzero(ways == Interpolation.LINEAR)
    outer[straight], inner[straight + 1] = straight_tangents(
        values[straight], values[straight + 1], np.diff(times)[straight], turns
    )
    held = np.flatnonzero(ways == Interpolation.STEP)
    outer[held] = inner[held + 1] = 0
    jumps = held[(values[held] != values[held + 1]).any(axis=1)]
    ends = times[jumps + 1] - np.minimum(_SHORT / rate, 0.5 * (times[jumps + 1] - times[jumps]))
    zero = np.zeros_like(values[jumps])
    return Sampler(
        np.insert(times, jumps + 1, ends),
        np.insert(values, jumps + 1, values[jumps], axis=0),
        Interpolation.CUBICSPLINE,
        np.insert(inner, jumps + 1, zero, axis=0),
        np.insert(outer, jumps + 1, zero, axis=0),
    )


def told_apart(sampler: Sampler, rate: float, turns: bool) -> Sampler:
    """A sampler of smooth in-betweens, with those that are straight or held told as such."""
    inner, outer = sampler.tangents_in, sampler.tangents_out
    if sampler.uniform is not Interpolation.CUBICSPLINE or inner is None or outer is None or len(sampler) < 2:
        return sampler
    times, values = sampler.times, sampler.values
    steps = np.diff(times)
    same = (values[1:] == values[:-1]).all(axis=1)
    flat = same & ~outer[:-1].any(axis=1) & ~inner[1:].any(axis=1)
    # The second key of a hold: a short jump without tangents behind an in-between where nothing moves.
    jump = (steps < 1.5 * _SHORT / rate) & ~outer[:-1].any(axis=1) & ~inner[1:].any(axis=1)
    ends = np.flatnonzero(jump[1:] & flat[:-1]) + 1
    ways = np.full(len(sampler) - 1, Interpolation.CUBICSPLINE, np.int8)
    out, into = straight_tangents(values[:-1], values[1:], np.maximum(steps, 1e-9), turns)
    size = np.abs(out).max(axis=1) + np.abs(into).max(axis=1) + 1e-3
    near = np.maximum(np.abs(outer[:-1] - out).max(axis=1), np.abs(inner[1:] - into).max(axis=1)) <= _ALIKE * size
    ways[near] = Interpolation.LINEAR
    ways[flat] = Interpolation.STEP
    if (ways == Interpolation.CUBICSPLINE).all():
        return sampler
    keep = np.ones(len(sampler), bool)
    keep[ends] = False
    ways = np.delete(ways, ends)
    return Sampler(times[keep], values[keep], ways, inner[keep], outer[keep])
