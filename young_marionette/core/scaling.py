"""Scales of joints over time: three curves of a clip for each such joint, as factors of its local scale at rest."""

from __future__ import annotations

import re

import numpy as np

_NAME = re.compile(r"scale of joint (\d+) along [XYZ]")


def scale_curves(joint):
    """The names of the three curves of a joint, along its own axes."""
    return tuple(f"scale of joint {joint} along {axis}" for axis in "XYZ")


def is_scale(name):
    """Whether a curve is one of a joint's scales."""
    return _NAME.fullmatch(name) is not None


def with_scales(curves, values, factors):
    """``(curves, values (frames, n))`` with those of ``factors {joint: (frames, 3)}`` behind them."""
    names = [name for joint in sorted(factors) for name in scale_curves(joint)]
    columns = [] if values is None else [np.asarray(values, float)]
    columns += [factors[joint] for joint in sorted(factors)]
    return (*curves, *names), np.concatenate(columns, 1) if columns else None


def without_scales(curves, values):
    """``(curves, values)`` of all else."""
    kept = [i for i, name in enumerate(curves) if not is_scale(name)]
    return tuple(curves[i] for i in kept), values[:, kept]


def scale_factors(curves, values):
    """``{joint: (frames, 3)}`` of the joints whose scales change."""
    place = {name: i for i, name in enumerate(curves)}
    joints = {int(found.group(1)) for found in map(_NAME.fullmatch, curves) if found}
    whole = (j for j in sorted(joints) if all(name in place for name in scale_curves(j)))
    return {j: values[:, [place[name] for name in scale_curves(j)]] for j in whole}


def factors_above(skeleton, factors):
    """``{joint: (frames, 3)}``: how much longer than at rest the offsets are below joints whose scales change."""
    found = {}
    for joint, parent in enumerate(skeleton.parents.tolist()):
        parts = [f[parent] for f in (found, factors) if parent in f]
        if parts:
            found[joint] = np.prod(parts, 0)
    return found


def factors_of_pose(skeleton, weights):
    """``(joints, 3)``: how much larger than at rest the joints' own axes are, by one pose's ``{curve: value}``; or None."""
    curves = [name for name in weights if is_scale(name)]
    factors = scale_factors(curves, np.array([[weights[name] for name in curves]])) if curves else {}
    if not factors:
        return None
    result = np.ones((len(skeleton), 3))
    for part in (factors, factors_above(skeleton, factors)):
        for joint in (j for j in part if j < len(skeleton)):
            result[joint] *= part[joint][0]
    return result
