"""A recording of markers becomes motion of a figure of the performer's own size; what is faulty on the way is named.

The steps: what trajectories tell of exchanges and spikes is put right first; some hundred unlike frames size the figure;
all frames are solved with it; markers that are not where the figure expects them are faults, and with these put right or
left out the figure is fitted and solved again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from ..clip import Clip
from ..errors import InputError
from . import faults as fault_kinds
from . import seen as reduce
from .assigning import BY_HAND, BY_MOTION, LITTLE, Laid, is_mirrored, likeliest, rides
from .choosing import spread_frames
from .faults import Fault
from .figure import Figure
from .fitting import Prior, fitted, prior_of
from .following import OUT, SIGMA, Progress, eased, expected_places, finished, solve_poses
from .mends import BELIEVE, Mend, marked, mended, put_back, spoken_for
from .placing import stature_of
from .posing import Poses
from .recording import Recording
from .reference import Reference, Touches, aims_at
from .rows import rows_of
from .segments import BODY, Structure
from .sites import read_labels
from .sizing import STATURE, Sizes, resized
from .smoothing import continuous
from .tracking import How, annealed, refined
from .trajectories import Exchange, believable, exchanged

_SPOILED = 0.002  # the share of what was seen that may be faulty before the figure is fitted anew
_SMALLEST, _TALLEST = 1.0, 2.3  # metres
_DOUBTFUL = 0.5
LOOSE = 0.025  # metres that a marker is usually off where it fits nowhere
_WRONG = 0.02  # metres that a marker on its own segment is not off as a rule
# How a figure is fitted, from coarse to fine: sigma and width (metres), whether far markers count nothing, most steps.
_FINE = 2  # the first stage for a figure that is nearly right
_STAGES = ((0.03, 0.1, False, 6), (0.012, 0.05, False, 6), (SIGMA, 0.03, False, 6), (SIGMA, OUT, True, 8))


@dataclass(frozen=True, eq=False)
class Hints:
    """What is known of a figure before it is fitted: ``sizes`` that are set (see sizing), and the performer's T-pose, with its
    ``touches`` (see reference)."""

    sizes: Sizes = field(default_factory=dict)
    reference: Reference | None = None
    touches: Touches = (0.0, 0.0)


NO_HINTS = Hints()


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


def fit(
    points: np.ndarray,
    figure: Figure,
    prior: Prior,
    stages: Sequence[tuple[float, float, bool, int]] = _STAGES,
    hints: Hints = NO_HINTS,
    progress: Progress = lambda share: None,
) -> tuple[Figure, tuple[np.ndarray, Poses]]:
    """``(figure, (frames, their poses))``: the figure that some hundred frames tell, from one that is about right.

    ``points (frames, markers, 3)``: NaN where a marker is not seen or not believed. ``stages``: see ``_STAGES``.
    """
    frames = spread_frames(points)
    reference = None if hints.reference is None else hints.reference.on(figure.labels)
    own, seen = rows_of(points[frames] if reference is None else np.concatenate([points[frames], reference]))
    weights = seen * 1.0
    aims = None
    if reference is not None:
        aims = aims_at(figure.structure, len(frames) + len(reference), len(reference), hints.touches)
    poses = annealed(figure, own, weights)
    progress(0.4)
    for n, (sigma, width, last, steps) in enumerate(stages):
        figure, poses = fitted(figure, poses, own, weights, prior, sigma, width, last, steps, hints.sizes, aims)
        poses, _ = refined(figure, poses, own, weights, How(sigma, width, steps=4), aims)
        progress(0.4 + 0.6 * (n + 1) / len(stages))
    return resized(figure, hints.sizes), (frames, poses.picked(slice(len(frames))))


def solve(
    recording: Recording,
    laid: Laid,
    figure: Figure | None = None,
    structure: Structure = BODY,
    mends: Sequence[Mend] = (),
    hints: Hints = NO_HINTS,
    progress: Progress = lambda share: None,
) -> Solution:
    """Solve a placed recording (metres, Y up), with its faults found and mended.

    ``figure``: of the same performer and markers, where there is one; else one is fitted. ``mends``: what is decided of markers.
    ``hints``: for the fit of a figure. InputError where the markers are too few for a body.
    """
    part = lambda a, b: lambda share: progress(a + (b - a) * share)  # noqa: E731
    seen, sure = replace(recording, points=put_back(recording, mends)), marked(recording, mends, BELIEVE)
    recording = mended(recording, mends)
    wrong = _lying(recording, laid, structure)
    for turn in range(2):
        share = part(0.45 * turn, 0.55 if turn == 0 else 1.0)
        solution = _solved(recording, laid, figure, structure, sure, hints, share)
        before = laid
        laid, found = _put_right(recording, laid, solution, first=turn == 0)
        wrong += found
        if laid is before or turn == 1:
            break
    strays = [fault for fault in _strays(recording, laid) if not spoken_for(fault, sure)]
    progress(1.0)
    # What was left out is no gap.
    hidden = [
        replace(fault, marker=int(solution.on[fault.marker])) for fault in fault_kinds.gaps(seen.points[:, solution.on])
    ]
    told = (*solution.faults, *hidden, *wrong, *strays)
    gone = {f.marker for f in strays}
    told = tuple(f for f in told if f.kind != fault_kinds.GAP or f.marker not in gone)
    order = sorted(told, key=lambda f: (f.kind == fault_kinds.GAP, f.first, f.marker))
    return replace(solution, faults=tuple(order), laid=_doubted(laid, solution))


def is_likely_stature(figure: Figure) -> bool:
    """Whether a figure is as tall as people are."""
    return _SMALLEST <= figure.stature <= _TALLEST


def _doubted(laid: Laid, solution: Solution) -> Laid:
    """The Laid with less certainty where the figure is nobody's, and for markers that do not keep to their segment."""
    sure = laid.sure.copy()
    if not is_likely_stature(solution.figure):
        sure = np.minimum(sure, _DOUBTFUL)
    far = solution.on[np.nan_to_num(fault_kinds.usual_distance(solution.off)) > LOOSE]
    sure[far] = np.minimum(sure[far], _DOUBTFUL)
    return replace(laid, sure=sure)


def on_body(recording: Recording, laid: Laid, structure: Structure = BODY) -> np.ndarray:
    """The markers that go with a segment and are seen at all ``(n,)``; InputError where they are too few to know a body by."""
    on = np.flatnonzero((laid.segments >= 0) & recording.seen.any(0))
    trunk = np.isin(laid.segments[on], structure.trunk).sum()
    if len(on) < 6 or trunk < 3:
        raise InputError(
            f"{recording.name} has {len(on)} markers that go with a part of the body, {trunk} of them with the trunk; "
            "at least 6 are needed, 3 of them on the hips, the back or the chest."
        )
    return on


def _solved(
    recording: Recording,
    laid: Laid,
    figure: Figure | None,
    structure: Structure,
    sure: np.ndarray,
    hints: Hints,
    progress: Progress,
) -> Solution:
    part = lambda a, b: lambda share: progress(a + (b - a) * share)  # noqa: E731
    kept = figure is not None
    if figure is not None:
        laid = _known_to(figure, recording, laid)
    on = on_body(recording, laid, structure)
    rate, given, sure = recording.rate, recording.points[:, on], sure[:, on]
    believed, swaps = believable(given, rate, sure)
    stature = hints.sizes.get(STATURE) or laid.stature or stature_of(recording.points[:, on])
    prior = prior_of(structure, laid.segments[on], laid.places[on], laid.sigma[on], stature)
    labels, begun = tuple(recording.labels[i] for i in on), None
    progress(0.02)
    if figure is None:
        offsets = structure.shares * stature
        figure = Figure(stature, offsets, labels, laid.segments[on], prior.expected(offsets), structure)
        figure, begun = fit(believed, figure, prior, hints=hints, progress=part(0.02, 0.4))
    else:
        figure = figure.on(labels)
    poses = solve_poses(figure, believed, rate, begun, part(0.4, 0.7))
    points, swaps, found = _faulty(given, expected_places(figure, poses), swaps, rate, sure)
    believed = _without(points, [(f.marker, f.first, f.last) for f in found])
    spoiled = sum(f.last - f.first + 1 for f in found) + sum(2 * (s.last - s.first + 1) for s in swaps)
    if not kept and spoiled > _SPOILED * points.shape[0] * points.shape[1]:
        figure, begun = fit(believed, figure, prior, _STAGES[_FINE:], hints, part(0.7, 0.85))
        poses = solve_poses(figure, believed, rate, begun, part(0.85, 0.98))
    elif spoiled:
        rows, seen = rows_of(believed)
        weights = eased(seen, rate)
        poses, _ = refined(figure, poses, rows, weights, How(SIGMA, OUT, last=True, steps=3))
        poses = finished(figure, poses, rows, weights, rate)
    expected = expected_places(figure, poses)
    # With the figure that the faults did not spoil, their ends can be told better.
    found = [f for f in fault_kinds.residual_faults(points, expected, rate) if not spoken_for(f, sure)]
    told = [replace(fault, marker=int(on[fault.marker])) for fault in found]
    for swap in swaps:
        for a, b in ((swap.a, swap.b), (swap.b, swap.a)):
            told.append(Fault(fault_kinds.EXCHANGED, int(on[a]), swap.first, swap.last, int(on[b])))
    return Solution(figure, poses, rate, on, np.linalg.norm(points - expected, axis=-1), expected, tuple(told), laid)


def _known_to(figure: Figure, recording: Recording, laid: Laid) -> Laid:
    """The Laid without markers that a figure was not made with."""
    for marker, label in enumerate(recording.labels):
        if label not in figure.labels and laid.segments[marker] >= 0:
            laid = laid.with_segment(marker, -1, figure.structure, laid.why[marker], 0.0)
    return laid


def _without(points: np.ndarray, stretches: Sequence[tuple[int, int, int]]) -> np.ndarray:
    """The points with NaN on ``stretches``: (marker, first, last)."""
    points = points.copy()
    for marker, first, last in stretches:
        points[max(first, 0) : last + 1, marker] = np.nan
    return points


def _faulty(
    given: np.ndarray, expected: np.ndarray, swaps: list[Exchange], rate: float, sure: np.ndarray
) -> tuple[np.ndarray, list[Exchange], list[Fault]]:
    """``(points with exchanged markers put back, all exchanges, other faults)``, by where the figure expects the markers."""
    swaps = _checked(given, expected, swaps)
    points = exchanged(given, swaps)
    more = [swap for swap in fault_kinds.residual_exchanges(points, expected, rate) if not swap.touches(sure)]
    points = exchanged(points, more)
    found = fault_kinds.residual_faults(points, expected, rate)
    return points, [*swaps, *more], [fault for fault in found if not spoken_for(fault, sure)]


def _put_right(recording: Recording, laid: Laid, solution: Solution, first: bool) -> tuple[Laid, list[Fault]]:
    """Markers on wrong segments, put where they keep their place; those on none that do so somewhere are taken in, the first time."""
    level = np.nan_to_num(fault_kinds.usual_distance(solution.off))
    high = level > max(_WRONG, 6 * float(np.median(level)))
    structure = solution.figure.structure
    asked = [int(m) for n, m in enumerate(solution.on) if high[n] and laid.why[m] != BY_HAND]
    share = recording.seen.mean(0)
    free = [m for m in range(len(recording)) if laid.segments[m] < 0 and laid.why[m] != BY_HAND and share[m] >= LITTLE]
    found: list[Fault] = []
    markers = np.array([*asked, *(free if first else ())], int)
    if not len(markers):
        return laid, found
    segments, loose = likeliest(solution.figure, solution.poses, recording.points, markers)
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
