"""A recording of markers becomes motion of a figure of the performer's own size; what is faulty on the way is named.

The steps: what trajectories tell of exchanges and spikes is put right first; some hundred unlike frames size the figure;
all frames are solved with it; markers that are not where the figure expects them are faults, and with these put right or
left out the figure is fitted and solved again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..clip import Clip
from ..errors import InputError
from . import faults as fault_kinds
from . import seen as reduce
from .assigning import BY_HAND, BY_MOTION, Laid, is_mirrored, likeliest, rides
from .choosing import alike, spread_frames
from .faults import Fault
from .figure import Figure
from .fitting import Prior, fitted, prior_of
from .posing import Poses, normal, predicted, tukey, world
from .recording import Recording
from .segments import BODY, STATURE, Structure
from .sites import read_labels
from .smoothing import aims, between, continuous
from .tracking import How, annealed, refined, settled, started
from .trajectories import Exchange, exchanged, exchanges, left, spikes

Progress = Callable[[float], None]
SIGMA = 0.004  # metres that a good marker may be off
OUT = 0.035  # metres at which a marker counts no more
_WRONG = 0.02  # metres that a marker on its own segment is not off as a rule
_CLEANEST = 0.00005  # metres that any marker is off
_NOISY = 0.0007  # metres: what real recordings have
_EASED = 0.1  # seconds over which a marker comes in and goes out
# How a figure is fitted, from coarse to fine: sigma and width (metres), whether far markers count nothing, most steps.
_FINE = 2  # the first stage for a figure that is nearly right
_STAGES = ((0.03, 0.1, False, 6), (0.012, 0.05, False, 6), (SIGMA, 0.03, False, 6), (SIGMA, OUT, True, 8))


@dataclass(frozen=True, eq=False)
class Solution:
    """``off (frames, markers)``: metres between where a marker is and where the figure expects it, NaN where not seen.

    ``expected (frames, markers, 3)``; ``faults``: what was found. ``figure`` has the markers that sit on it, in the recording's order:
    ``on (n,)`` are their numbers in it.
    """

    figure: Figure
    poses: Poses
    rate: float
    on: np.ndarray
    off: np.ndarray
    expected: np.ndarray
    faults: tuple[Fault, ...]
    laid: Laid

    def clip(self, name: str) -> Clip:
        """The motion, as a clip on the figure's skeleton."""
        return Clip(
            name,
            self.figure.skeleton(),
            self.rate,
            np.moveaxis(continuous(self.poses.q), -1, 0),
            np.array([0]),
            self.poses.root.T[:, None],
        )


def stature_of(points: np.ndarray) -> float:
    """A guess of the performer's stature (metres) from how high markers are over the lowest ones, where they stand the tallest."""
    points = points[:: max(len(points) // 400, 1)]
    seen = np.isfinite(points).all(-1)
    if not seen.any():
        return STATURE
    heights = np.where(seen, points[..., 1], np.nan)
    tall = reduce.percentile(heights, 97, axis=1) - reduce.percentile(heights, 3, axis=1)
    tall = tall[np.isfinite(tall)]
    guess = float(np.percentile(tall, 95)) * 1.06 + 0.02 if len(tall) else STATURE
    return guess if 0.5 < guess < 2.6 else STATURE


def rows_of(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """``(points (markers, 3, frames), seen (markers, frames))`` of ``points (frames, markers, 3)``."""
    rows = np.ascontiguousarray(np.moveaxis(points, 0, -1))
    return rows, np.isfinite(rows).all(1)


def fit(
    points: np.ndarray,
    segments: np.ndarray,
    prior: Prior,
    stature: float,
    labels: tuple[str, ...],
    structure: Structure = BODY,
    progress: Progress = lambda share: None,
    before: Figure | None = None,
) -> tuple[Figure, np.ndarray, Poses, float]:
    """``(figure, frames, their poses, RMS in metres)``: the figure that some hundred frames tell.

    ``points (frames, markers, 3)``: NaN where a marker is not seen or not believed. ``before``: a figure that is nearly right,
    to go on from.
    """
    frames = spread_frames(points)
    own, seen = rows_of(points[frames])
    weights = seen * 1.0
    offsets = structure.shares * stature
    figure = before or Figure(stature, offsets, labels, segments, prior.expected(offsets), structure)
    # Poses begin anew in any case: a faulty marker may have twisted a limb.
    poses = annealed(figure, own, weights)
    progress(0.4)
    rms = 0.0
    for n, (sigma, width, last, steps) in enumerate(_STAGES):
        if before is not None and n < _FINE:
            continue
        figure, poses, rms = fitted(figure, poses, own, weights, prior, sigma, width, last, steps)
        poses, _ = refined(figure, poses, own, weights, How(sigma, width, steps=4))
        progress(0.4 + 0.6 * (n + 1) / len(_STAGES))
    return figure, frames, poses, rms


def solve_poses(
    figure: Figure,
    points: np.ndarray,
    rate: float,
    known: tuple[np.ndarray, Poses] | None = None,
    progress: Progress = lambda share: None,
) -> Poses:
    """Poses on all frames of a known figure. ``points (frames, markers, 3)``: NaN where not seen or not believed.

    ``known``: frames whose poses are known roughly, and these.
    """
    frames = len(points)
    rows, seen = rows_of(points)
    if known is None:
        at = spread_frames(points)
        known = at, annealed(figure, rows[..., at], seen[:, at] * 1.0)
    some = np.unique(np.append(np.arange(0, frames, max(round(rate / 12.5), 1)), frames - 1))
    own, weights = rows[..., some], seen[:, some] * 1.0
    start = started(figure, own, weights)
    start.q[1:] = known[1].q[1:][..., alike(points[some], points[known[0]])]
    start = settled(figure, start, own, weights, How(0.012, 0.08, steps=8), (1, 2, 1))
    progress(0.3)
    more = np.unique(np.append(np.arange(0, frames, max(round(rate / 50), 1)), frames - 1))
    poses = between(start, np.searchsorted(more, some), len(more)) if len(more) > len(some) else start
    poses = settled(figure, poses, rows[..., more], seen[:, more] * 1.0, How(SIGMA, OUT, steps=4), (1, 2))
    progress(0.55)
    weights = eased(seen, rate)
    poses, _ = refined(figure, between(poses, more, frames), rows, weights, How(SIGMA, OUT, last=True, steps=2))
    progress(0.75)
    return finished(figure, poses, rows, weights, rate)


def finished(figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray, rate: float) -> Poses:
    """Poses with markers believed as far as they deserve: clean ones leave what is usual of a body hardly any say."""
    sigma = noise_of(figure, poses, points, weights)
    # The cleaner, the more there is to gain by going on.
    for _ in range(1 if sigma > _NOISY else 4):
        poses, _ = refined(figure, poses, points, weights, How(sigma, OUT, last=True, steps=2 if sigma > _NOISY else 5))
        sigma = noise_of(figure, poses, points, weights)
    return helped(figure, poses, points, weights, rate, sigma)


def noise_of(figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray) -> float:
    """How far markers usually are from where the figure expects them, along one axis, metres."""
    some = np.unique(np.linspace(0, poses.frames - 1, 400).astype(int))
    off = points[..., some] - predicted(figure, *world(figure.structure, figure.offsets, poses.picked(some)))
    far = np.sqrt(np.sum(off * off, 1))[(weights[:, some] > 0.5) & np.isfinite(off).all(1)]
    return float(np.clip(np.median(far) / 1.54, _CLEANEST, SIGMA)) if len(far) else SIGMA


def helped(
    figure: Figure, poses: Poses, points: np.ndarray, weights: np.ndarray, rate: float, sigma: float = SIGMA
) -> Poses:
    """Poses with joints of which the markers tell too little drawn to a smooth way between the frames where they do."""
    frames, count = poses.frames, len(figure.structure)
    told, told_root = np.empty((count, frames)), np.empty(frames)
    for at in range(0, frames, 512):
        span = slice(at, at + 512)
        off = points[..., span] - predicted(figure, *world(figure.structure, figure.offsets, poses.picked(span)))
        robust, _ = tukey(np.sqrt(np.nansum(off * off, 1)), OUT)
        clean = np.where(weights[:, None, span] > 0, points[..., span], 0.0)
        system = normal(figure, poses.picked(span), clean, weights[:, span] * robust / SIGMA**2)
        for joint in range(count):
            told[joint, span] = np.linalg.eigvalsh(np.moveaxis(system.blocks[joint][0], -1, 0))[:, 0]
        told_root[span] = system.blocks[-1][0, 0, 0]
    drawn = aims(poses, told, told_root, rate)
    # Only frames on which something is missing: the others stay as their markers have them.
    some = np.flatnonzero((drawn.pull > 0).any(0) | (drawn.root_pull > 0))
    if len(some):
        own, _ = refined(
            figure, poses.picked(some), points[..., some], weights[:, some], How(sigma, OUT, last=True, steps=3),
            drawn.picked(some),
        )  # fmt: skip
        poses.put(some, own)
    return poses


def eased(seen: np.ndarray, rate: float) -> np.ndarray:
    """Weights ``(markers, frames)``: 0 where not ``seen``, rising to 1 over a tenth of a second beside gaps."""
    reach = max(round(_EASED * rate), 1)
    frames, hidden, never = np.arange(seen.shape[1]), ~seen, seen.shape[1] + reach
    before = np.maximum.accumulate(np.where(hidden, frames, -never), axis=1)
    after = np.minimum.accumulate(np.where(hidden, frames, 2 * never)[:, ::-1], axis=1)[:, ::-1]
    near = np.minimum(frames - before, after - frames)
    weights: np.ndarray = seen * np.clip(near / (reach + 1), 0.02, 1) ** 2
    return weights


def solve(
    recording: Recording,
    laid: Laid,
    figure: Figure | None = None,
    structure: Structure = BODY,
    left_out: Sequence[tuple[int, int, int]] = (),
    progress: Progress = lambda share: None,
) -> Solution:
    """Solve a placed recording (metres, Y up), with its faults found and mended.

    ``figure``: of the same performer and markers, where there is one; else one is fitted. ``left_out``: (marker, first, last)
    of what is not believed. InputError where the markers are too few for a body.
    """
    part = lambda a, b: lambda share: progress(a + (b - a) * share)  # noqa: E731
    wrong = _lying(recording, laid, structure)
    for turn in range(2):
        solution = _solved(recording, laid, figure, structure, left_out, part(0.45 * turn, 0.55 if turn == 0 else 1.0))
        before = laid
        laid, found = _put_right(recording, laid, solution, first=turn == 0)
        wrong += found
        if laid is before or turn == 1:
            break
    strays = _strays(recording, laid)
    progress(1.0)
    told = (*solution.faults, *wrong, *strays)
    gone = {f.marker for f in strays}
    told = tuple(f for f in told if f.kind != fault_kinds.GAP or f.marker not in gone)
    order = sorted(told, key=lambda f: (f.kind == fault_kinds.GAP, f.first, f.marker))
    return replace(solution, faults=tuple(order), laid=laid)


def check_enough(recording: Recording, laid: Laid, structure: Structure = BODY) -> None:
    """InputError where the markers that go with a segment are too few to know a body by."""
    on = np.flatnonzero((laid.segments >= 0) & recording.seen.any(0))
    trunk = np.isin(laid.segments[on], structure.trunk).sum()
    if len(on) < 6 or trunk < 3:
        raise InputError(
            f"{recording.name} has {len(on)} markers that go with a part of the body, {trunk} of them with the trunk; "
            "at least 6 are needed, 3 of them on the hips, the back or the chest."
        )


def _solved(
    recording: Recording,
    laid: Laid,
    figure: Figure | None,
    structure: Structure,
    left_out: Sequence[tuple[int, int, int]],
    progress: Progress,
) -> Solution:
    if figure is not None:
        # Markers that the figure was not made with are of no use to it.
        known = set(figure.labels)
        strange = [m for m, label in enumerate(recording.labels) if label not in known and laid.segments[m] >= 0]
        for marker in strange:
            laid = laid.with_segment(marker, -1, structure, laid.why[marker], 0.0)
    check_enough(recording, laid, structure)
    on = np.flatnonzero((laid.segments >= 0) & recording.seen.any(0))
    rate, given = recording.rate, recording.points[:, on]
    number = {int(m): n for n, m in enumerate(on)}
    hidden = np.zeros(given.shape[:2], bool)
    for marker, first, last in left_out:
        if marker in number:
            hidden[first : last + 1, number[marker]] = True
    given = np.where(hidden[..., None], np.nan, given)
    part = lambda a, b: lambda share: progress(a + (b - a) * share)  # noqa: E731
    swaps = exchanges(given, rate)
    points = exchanged(given, swaps)
    believed = np.where((spikes(points, rate) | left(points, rate))[..., None], np.nan, points)
    stature = laid.stature or stature_of(recording.points[:, on])
    labels = tuple(recording.labels[i] for i in on)
    own_fit = figure is None
    prior = prior_of(structure, laid.segments[on], laid.places[on], laid.sigma[on], stature)
    progress(0.02)

    def fitted_now(share: Progress, before: Figure | None = None) -> tuple[Figure, tuple[np.ndarray, Poses]]:
        made, frames, some, _ = fit(believed, laid.segments[on], prior, stature, labels, structure, share, before)
        return made, (frames, some)

    if figure is None:
        figure, begun = fitted_now(part(0.02, 0.4))
    else:
        figure, begun = figure.on(labels), None
    poses = solve_poses(figure, believed, rate, begun, part(0.4, 0.7))
    expected = _expected(figure, poses)
    swaps = _checked(given, expected, swaps)
    points = exchanged(given, swaps)
    nothing = np.zeros(points.shape[:2], bool)
    for a, b, first, last in fault_kinds.residual_exchanges(points, expected, rate, nothing):
        swaps.append(Exchange(a, b, first, last))
        points = exchanged(points, swaps[-1:])
    found = fault_kinds.residual_faults(points, expected, rate, nothing)
    believed = points.copy()
    for fault in found:
        believed[fault.first : fault.last + 1, fault.marker] = np.nan
    long = sum(f.last - f.first + 1 for f in found) + sum(2 * (s.last - s.first + 1) for s in swaps)
    if own_fit and long > 0.002 * points.shape[0] * points.shape[1]:
        figure, begun = fitted_now(part(0.7, 0.85), figure)
        poses = solve_poses(figure, believed, rate, begun, part(0.85, 0.98))
    elif found or swaps:
        rows, seen = rows_of(believed)
        weights = eased(seen, rate)
        poses, _ = refined(figure, poses, rows, weights, How(SIGMA, OUT, last=True, steps=3))
        poses = finished(figure, poses, rows, weights, rate)
    expected = _expected(figure, poses)
    # With the figure that the faults did not spoil, their ends can be told better.
    found = fault_kinds.residual_faults(points, expected, rate, nothing)
    told = [
        replace(fault, marker=int(on[fault.marker])) for fault in (*found, *fault_kinds.gaps(recording.points[:, on]))
    ]
    for swap in swaps:
        for a, b in ((swap.a, swap.b), (swap.b, swap.a)):
            told.append(Fault(fault_kinds.EXCHANGED, int(on[a]), swap.first, swap.last, int(on[b])))
    return Solution(figure, poses, rate, on, np.linalg.norm(points - expected, axis=-1), expected, tuple(told), laid)


def _put_right(recording: Recording, laid: Laid, solution: Solution, first: bool) -> tuple[Laid, list[Fault]]:
    """Markers on wrong segments, put where they keep their place; those on none that do so somewhere are taken in, the first time."""
    level = fault_kinds.usual_distance(solution.off)
    high = level > max(_WRONG, 6 * float(np.median(level)))
    structure = solution.figure.structure
    asked = [int(m) for n, m in enumerate(solution.on) if high[n] and laid.why[m] != BY_HAND]
    share = recording.seen.mean(0)
    free = [m for m in range(len(recording)) if laid.segments[m] < 0 and laid.why[m] != BY_HAND and share[m] >= 0.25]
    found: list[Fault] = []
    markers = np.array([*asked, *(free if first else ())], int)
    if not len(markers):
        return laid, found
    segments, loose, _ = likeliest(solution.figure, solution.poses, recording.points, markers)
    for marker, segment, spread in zip(markers.tolist(), segments.tolist(), loose.tolist()):
        before = int(laid.segments[marker])
        if not rides(spread) or segment == before:
            continue
        laid = laid.with_segment(marker, segment, structure, BY_MOTION, 0.8)
        if before >= 0:
            kind = fault_kinds.WRONG_SIDE if is_mirrored(structure, before, segment) else fault_kinds.WRONG_SEGMENT
            found.append(Fault(kind, marker, 0, recording.frames - 1, structure.names[segment]))
    return laid, found


def _lying(recording: Recording, laid: Laid, structure: Structure) -> list[Fault]:
    """Labels that name the other side of the body than the one their markers move with."""
    found = []
    for marker, reading in enumerate(read_labels(recording.labels, structure)):
        if laid.why[marker] == BY_MOTION and reading.segment is not None and laid.segments[marker] >= 0:
            segment = int(laid.segments[marker])
            if is_mirrored(structure, structure.index[reading.segment], segment):
                name = structure.names[segment]
                found.append(Fault(fault_kinds.WRONG_SIDE, marker, 0, recording.frames - 1, name))
    return found


def _strays(recording: Recording, laid: Laid) -> list[Fault]:
    """What goes with no segment, from where it is first seen to where it is last seen."""
    found = []
    for marker in np.flatnonzero((laid.segments < 0) & recording.seen.any(0)):
        if laid.why[marker] != BY_HAND:
            seen = np.flatnonzero(recording.seen[:, marker])
            found.append(Fault(fault_kinds.STRAY, int(marker), int(seen[0]), int(seen[-1])))
    return found


def _expected(figure: Figure, poses: Poses) -> np.ndarray:
    parts = []
    for at in range(0, poses.frames, 512):
        some = poses.picked(slice(at, at + 512))
        parts.append(np.moveaxis(predicted(figure, *world(figure.structure, figure.offsets, some)), -1, 0))
    return np.concatenate(parts)


def _checked(given: np.ndarray, expected: np.ndarray, swaps: list[Exchange]) -> list[Exchange]:
    """Of exchanges that the ways of markers tell, those that the figure bears out; where it is the rest of the frames that is
    exchanged, that."""
    kept = []
    frames = len(given)
    for swap in swaps:
        own = np.linalg.norm(given[:, [swap.a, swap.b]] - expected[:, [swap.a, swap.b]], axis=-1).sum(1)
        other = np.linalg.norm(given[:, [swap.b, swap.a]] - expected[:, [swap.a, swap.b]], axis=-1).sum(1)
        inside = np.zeros(frames, bool)
        inside[swap.first : swap.last + 1] = True
        gain = reduce.mean((own - other)[inside])
        outside = reduce.mean((other - own)[~inside]) if (~inside).any() else 1.0
        if gain > 0 and outside > 0:
            kept.append(swap)
        elif gain < 0 and outside < 0 and (swap.first == 0 or swap.last == frames - 1):
            first, last = (swap.last + 1, frames - 1) if swap.first == 0 else (0, swap.first - 1)
            kept.append(Exchange(swap.a, swap.b, first, last))
    return kept
