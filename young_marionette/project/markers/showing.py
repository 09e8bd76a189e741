"""A recording as the stage, the body picture and the table show it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ...core.evaluator import EVALUATOR
from ...core.kinematics import forward
from ...core.markers import seen
from ...core.markers.answering import answered
from ...core.markers.assigning import BY_HAND, NONE
from ...core.markers.faults import EXCHANGED, GAP, STRAY, usual_distance
from ...core.markers.figure import Figure, usual_figure
from ...core.markers.mends import within
from ...core.markers.segments import STATURE
from ...core.markers.sizing import resized
from ...core.scene.dots import DOTS, ODD, chain, dots
from ..lanes import Row
from .entry import take_of

if TYPE_CHECKING:
    from collections.abc import Collection

    from ...core.markers.faults import Fault
    from ...core.markers.solving import Solution
    from ...core.scene.figure import Figure as Shown
    from ..entry import Entry
    from .entry import MarkerEntry

_FAR = 0.03  # metres off the expected place at which a marker stands out
_TOLD = 0.01  # metres off from which on a line leads to the expected place
_TRAIL = 0.5  # seconds
_LANES = 6
RESIDUALS = "residuals"
LINE, OFF, TRAIL = "line", "off", "trail"


@dataclass(frozen=True, eq=False)
class Dots:
    """``figures``: of balls. ``labels``: of each ball of each figure. ``lines``: (kind, points)."""

    figures: tuple[Shown, ...]
    labels: dict[str, tuple[str, ...]]
    lines: tuple[tuple[str, np.ndarray], ...]
    named: tuple[tuple[str, np.ndarray], ...]


@dataclass(frozen=True)
class MarkerRow:
    """A marker as a table has it. ``residual``: metres, or None; ``faults``: what was found of it, gaps apart."""

    label: str
    segment: str | None
    why: str
    sure: float
    residual: float | None = None
    faults: tuple[Fault, ...] = ()


@dataclass(frozen=True)
class Pin:
    """A marker on the body picture, whose figure is one high: ``x`` to the viewer's right, ``y`` up; ``behind``: on its back."""

    label: str
    x: float
    y: float
    behind: bool
    segment: str


def take_entry(entry: MarkerEntry, solution: Solution) -> Entry:
    """The take that a solution would become, as an entry; made once."""
    return EVALUATOR.of("take of markers", (solution, entry.name), lambda: take_of(entry, solution))


def shown_dots(
    entry: MarkerEntry, solution: Solution | None, frame: int, chosen: str | None = None, trails: bool = False
) -> Dots:
    """The markers of a frame of the whole recording, where they are in our world."""
    recording = entry.placed_recording
    points, labels = recording.points[frame], recording.labels
    seen = np.isfinite(points).all(-1)
    odd = np.zeros(len(labels), bool)
    lines: list[tuple[str, np.ndarray]] = []
    first, last = entry.span
    if solution is not None:
        own = frame - first
        odd[[f.marker for f in solution.faults if f.kind != GAP and f.first <= own <= f.last]] = True
        if first <= frame <= last and own < len(solution.expected):
            there = solution.expected[own]
            far = np.linalg.norm(points[solution.on] - there, axis=-1)
            with np.errstate(invalid="ignore"):
                odd[solution.on[far > _FAR]] = True
                for n in np.flatnonzero(far > _TOLD):
                    lines.append((OFF, np.stack([points[solution.on[n]], there[n]])))
        segments = solution.laid.segments
        for segment in np.unique(segments[segments >= 0]):
            of = np.flatnonzero((segments == segment) & seen & ~odd)
            if len(of) > 1:
                lines.append((LINE, chain(points[of])))
    if trails:
        reach = round(_TRAIL * recording.rate)
        span = slice(max(frame - reach, 0), frame + reach + 1)
        for marker in np.flatnonzero(seen):
            way = recording.points[span, marker]
            way = way[np.isfinite(way).all(-1)]
            if len(way) > 1:
                lines.append((TRAIL, way[:: max(len(way) // 40, 1)]))
    figures, names = [], {}
    for kind, mask in ((DOTS, seen & ~odd), (ODD, seen & odd)):
        of = np.flatnonzero(mask)
        if len(of):
            names[kind] = tuple(labels[m] for m in of)
            figures.append(dots(kind, points[of], tuple(n for n, m in enumerate(of) if labels[m] == chosen)))
    named = tuple((labels[m].rpartition(":")[2], points[m]) for m in np.flatnonzero(seen))
    return Dots(tuple(figures), names, tuple(lines), named)


def dot_poses(entry: MarkerEntry, count: int) -> list[np.ndarray]:
    """The markers of ``count`` frames of the part in use ``(n, 3)`` each, those that are seen, over their own middle."""
    recording, (first, last) = entry.placed_recording, entry.place.use
    poses = []
    for frame in np.linspace(first, last, count).astype(int):
        points = recording.points[frame]
        points = points[np.isfinite(points).all(-1)]
        if len(points):
            poses.append(points - points.mean(0) * [1, 0, 1])
    return poses or [np.zeros((1, 3))]


def at_once(entry: MarkerEntry, solution: Solution, frame: int) -> tuple[np.ndarray, np.ndarray] | None:
    """``(positions (joints, 3), rotations (joints, 4))`` of a frame of the whole recording with what was changed since it was solved;
    None for a frame that is not solved."""
    first, last = entry.span
    if not first <= frame <= last or solution.poses.frames != last - first + 1:
        return None
    recording = entry.placed_recording.cut(first, last)
    solution = replace(solution, figure=shaped(entry, solution))
    poses = answered(solution, recording, entry.laid, within(entry.mends, first, last), frame - first)
    places, turns = forward(replace(solution, poses=poses).clip(entry.name))
    return places[0], turns[0]


def turns_of(
    entry: MarkerEntry, solution: Solution, pose: tuple[np.ndarray, np.ndarray] | None, frame: int
) -> np.ndarray | None:
    """Rotations of the figure's joints in the world ``(joints, 4)`` in a frame of the whole recording; ``pose``: where that is known
    already, see ``at_once``. None for a frame that is not solved."""
    if pose is not None:
        return pose[1]
    own = frame - entry.span[0]
    if not 0 <= own < solution.poses.frames:
        return None
    poses = solution.poses.picked(np.array([own]))
    turns: np.ndarray = forward(replace(solution, poses=poses).clip(entry.name))[1][0]
    return turns


def shaped(entry: MarkerEntry, solution: Solution) -> Figure:
    """The figure of a solution as it is set by hand since: sizes, or all of it."""
    labels = solution.figure.labels
    if entry.figure is not None and {*labels} <= {*entry.figure.labels}:
        return entry.figure.on(labels)
    return resized(solution.figure, dict(entry.sizes))


def marker_rows(entry: MarkerEntry, solution: Solution | None) -> list[MarkerRow]:
    """A row for each marker, in the recording's order; before anything is solved, with what is said by hand alone."""
    labels = entry.recording.labels
    if solution is None:
        chosen = dict(entry.labelling)
        return [MarkerRow(label, chosen.get(label), BY_HAND if label in chosen else NONE, 0.0) for label in labels]
    names, laid = solution.figure.structure.names, solution.laid
    residuals = dict(zip(solution.on.tolist(), usual_distance(solution.off).tolist()))
    rows = []
    for m, label in enumerate(labels):
        segment, residual = int(laid.segments[m]), residuals.get(m, np.nan)
        rows.append(
            MarkerRow(
                label,
                names[segment] if segment >= 0 else None,
                laid.why[m],
                float(laid.sure[m]),
                residual if np.isfinite(residual) else None,
                tuple(f for f in solution.faults if f.marker == m and f.kind != GAP),
            )
        )
    return rows


def nearest_markers(entry: MarkerEntry, label: str, frame: int) -> list[str]:
    """The other markers of a recording, those first that are nearest to one in a frame or were at any time."""
    points, labels = entry.placed_recording.points, entry.recording.labels
    own = entry.recording.index[label]
    span = slice(max(frame - 1, 0), frame + 2)
    here, ever = (
        seen.least(np.linalg.norm(some - some[:, [own]], axis=-1), axis=0) for some in (points[span], points[::10])
    )
    away = np.nan_to_num(np.where(np.isfinite(here), here, 1.0 + ever), nan=np.inf)
    return [labels[n] for n in np.argsort(away, kind="stable") if n != own]


def residual_rows(entry: MarkerEntry, solution: Solution, chosen: str | None, folded: Collection[str]) -> list[Row]:
    """Lanes of how far markers are from where the figure expects them: the largest, the chosen one's, and those of faulty ones."""
    found = [Row("group", RESIDUALS, "Markers off their places")]
    if RESIDUALS in folded:
        return found
    labels, first = entry.recording.labels, entry.span[0]
    off = np.nan_to_num(solution.off) * 100
    own = {labels[int(m)]: n for n, m in enumerate(solution.on)}
    faulty = {labels[f.marker] for f in solution.faults if f.kind not in (GAP, STRAY)}
    wanted = [label for label in own if label == chosen]
    wanted += [label for label in own if label in faulty and label != chosen][:_LANES]
    lanes = [
        ("Largest", off.max(1, initial=0.0)),
        *((label.rpartition(":")[2], off[:, own[label]]) for label in wanted),
    ]
    for name, values in lanes:
        whole = np.zeros(entry.recording.frames)
        whole[first : first + len(values)] = values
        most = max(float(whole.max(initial=0.0)), 1.0)
        found.append(Row("deviation", f"marker {name}", name, None, "cm", None, whole, most))
    return found


def unknown_segments(solution: Solution) -> list[str]:
    """Segments that no marker tells of: neither they nor anything that hangs on them has one."""
    structure = solution.figure.structure
    told = {j for s in solution.figure.segments for j in structure.chains[int(s)]}
    return [name for j, name in enumerate(structure.names) if j not in told]


def pictured(entry: MarkerEntry, solution: Solution | None) -> tuple[list[tuple[str, list[float]]], list[Pin]]:
    """``(segments with their bones [x, y, x, y, half width], pins)`` of the body picture, seen from the front, one high."""
    figure = solution.figure if solution is not None else entry.figure or usual_figure(STATURE)
    skeleton = figure.skeleton()
    places, _ = skeleton.rest_world
    tall = max(float(np.fmax(places, skeleton.ends)[:, 1].max()), 0.5)
    bones = []
    for joint, segment in enumerate(figure.structure.segments):
        end = figure.structure.next_joint(joint)
        start = places[joint]
        stop = places[end] if end != joint else start + np.array(segment.tip) * figure.stature
        wide = (segment.radius + 0.7 * segment.wide) * figure.stature
        bones.append((segment.name, [*_flat(start, tall), *_flat(stop, tall), float(wide / tall)]))
    return bones, _pins(entry, solution, figure, places, tall)


def _flat(place: np.ndarray, tall: float) -> tuple[float, float]:
    # The figure faces the viewer: its left is on the viewer's right.
    return float(place[0] / tall), float(place[1] / tall)


def _pins(entry: MarkerEntry, solution: Solution | None, figure: Figure, places: np.ndarray, tall: float) -> list[Pin]:
    if solution is None:
        return []
    pins = []
    names = figure.structure.names
    for n, marker in enumerate(solution.on):
        joint = int(figure.segments[n])
        place = places[joint] + figure.places[n]
        behind = bool(figure.places[n][2] < -0.02)
        pins.append(Pin(entry.recording.labels[marker], *_flat(place, tall), behind, names[joint]))
    return pins


def faults_of(entry: MarkerEntry, solution: Solution) -> list[Fault]:
    """The faults of a solution in frames of the whole recording."""
    first = entry.span[0]
    return [replace(fault, first=fault.first + first, last=fault.last + first) for fault in solution.faults]


def told_faults(entry: MarkerEntry, solution: Solution) -> list[Fault]:
    """As ``faults_of``, but for gaps, and an exchange told once."""
    told = [fault for fault in faults_of(entry, solution) if fault.kind != GAP]
    return [f for f in told if f.kind != EXCHANGED or not isinstance(f.other, int) or f.marker < f.other]
