"""Which segment each marker of a recording goes with: by what its user says, by its label, or by how it moves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from .belonging import looseness
from .figure import Figure
from .laying import lay
from .placing import stature_of
from .posing import Poses, world
from .recording import Recording
from .segments import BODY, Structure, mirrored
from .sites import Reading, broad, read_labels
from .surface import Surface, in_axes
from .trajectories import believable

BY_HAND, BY_LABEL, BY_MOTION, NONE = "hand", "label", "motion", "none"
_MOST = 0.6  # the share of markers whose labels must speak for the labels to be believed
LITTLE = 0.25  # the share of frames of a marker that is no stray
_LOOSE = 0.012  # metres that a marker may move in its segment's axes
_SIDED = 2.5  # times that a marker must keep to the other side's limb better than to its own
_MATE = 2.5  # times the least that any distance changes: of markers on one segment
_KEPT = 5.0  # times the least that any distance changes: as those within a segment do
_BESIDE = 0.09  # metres off the surface that a marker on the body may be


@dataclass(frozen=True, eq=False)
class Laid:
    """``segments (markers,)``: the joint that each marker goes with, -1 for none. ``places``, ``sigma (markers, 3)``: where on it, and
    within what, in shares of the stature. ``why``: BY_HAND, BY_LABEL, BY_MOTION or NONE; ``sure (markers,)``: 0 to 1.
    ``stature``: a guess in metres that it goes with, or None."""

    segments: np.ndarray
    places: np.ndarray
    sigma: np.ndarray
    why: tuple[str, ...]
    sure: np.ndarray
    stature: float | None = None

    def with_segment(self, marker: int, segment: int, structure: Structure, why: str, sure: float = 1.0) -> Laid:
        """The same with one marker on another segment (-1: on none)."""
        segments, places, sigma, certain = (a.copy() for a in (self.segments, self.places, self.sigma, self.sure))
        segments[marker], certain[marker] = segment, sure
        if segment >= 0:
            places[marker], sigma[marker] = broad(structure.segments[segment])
        reasons = tuple(why if m == marker else w for m, w in enumerate(self.why))
        return replace(self, segments=segments, places=places, sigma=sigma, why=reasons, sure=certain)


def assign(recording: Recording, structure: Structure = BODY) -> Laid:
    """The Laid of a placed recording (metres, Y up), by its labels, or by motion where they say too little."""
    readings = read_labels(recording.labels, structure)
    counted = (recording.seen.mean(0) >= LITTLE) & ~recording.unlabelled
    said = np.array([r.segment is not None for r in readings])
    if counted.any() and said[counted].mean() >= _MOST:
        return _by_label(recording, readings, structure)
    # What trajectories alone tell of faults is put right first: a marker that is two is on no segment.
    points, _ = believable(recording.points, recording.rate)
    layout = lay(points, stature_of(points), structure)
    sigma = np.array([broad(structure.segments[max(s, 0)])[1] for s in layout.segments])
    why = tuple(BY_MOTION if s >= 0 else NONE for s in layout.segments)
    stature = layout.figure.stature
    return Laid(layout.segments, layout.places / stature, sigma, why, layout.sure, stature)


def _by_label(recording: Recording, readings: list[Reading], structure: Structure) -> Laid:
    """The Laid that labels tell; those that name the wrong side are put on the other one."""
    laid = Laid(
        np.array([-1 if r.segment is None else structure.index[r.segment] for r in readings]),
        np.array([r.place for r in readings]),
        np.array([r.sigma for r in readings]),
        tuple(BY_LABEL if r.segment else NONE for r in readings),
        np.array([0.97 if r.landmark else 0.9 if r.segment else 0.0 for r in readings]),
    )
    for marker in wrong_sides(recording.points, laid.segments, structure):
        place, sigma = laid.places[marker] * [-1, 1, 1], laid.sigma[marker]
        laid = laid.with_segment(marker, int(structure.mirror[laid.segments[marker]]), structure, BY_MOTION, 0.85)
        laid.places[marker], laid.sigma[marker] = place, sigma
    return laid


def by_hand(laid: Laid, labels: tuple[str, ...], given: Mapping[str, str | None], structure: Structure = BODY) -> Laid:
    """The Laid with what is said by hand, over all else: label to the name of a segment, or None for a marker that goes with none."""
    for marker, label in enumerate(labels):
        name = given.get(label, "")
        if name != "" and (name is None or name in structure.index):
            segment = -1 if name is None else structure.index[name]
            if segment != laid.segments[marker]:
                laid = laid.with_segment(marker, segment, structure, BY_HAND)
            else:
                laid = replace(laid, why=tuple(BY_HAND if m == marker else w for m, w in enumerate(laid.why)))
    return laid


def wrong_sides(points: np.ndarray, segments: np.ndarray, structure: Structure = BODY) -> list[int]:
    """Markers on limbs that keep their distances to the other side's limb much better than to their own's.

    ``points (frames, markers, 3)``; ``segments (markers,)``, -1 for none. The worst is moved first: one wrong marker makes its right
    neighbours look doubtful.
    """
    loose = looseness(points)
    limbs = np.array([structure.limb(s) if s >= 0 else 0 for s in segments])
    found: list[int] = []
    while len(found) < len(segments) // 3:
        worst, gain = None, _SIDED
        for marker in np.flatnonzero(limbs):
            if marker in found:
                continue
            own, other = (
                _nearest(loose[marker], np.flatnonzero((limbs == limb) & (np.arange(len(limbs)) != marker)))
                for limb in (limbs[marker], -limbs[marker])
            )
            with_own = loose[marker][(limbs == limbs[marker]) & (np.arange(len(limbs)) != marker)]
            if np.min(with_own, initial=np.inf) < _MATE:
                continue  # it has a mate, whatever else stands as still
            with_other = loose[marker][limbs == -limbs[marker]]
            if own / max(other, 1.0) > gain and np.min(with_other, initial=np.inf) < _KEPT:
                worst, gain = int(marker), own / max(other, 1.0)
        if worst is None:
            break
        found.append(worst)
        limbs[worst] = -limbs[worst]
    return sorted(found)


def _nearest(loose: np.ndarray, of: np.ndarray) -> float:
    known = np.sort(loose[of][np.isfinite(loose[of])])[:3]
    return float(known.mean()) if len(known) == 3 else 0.0


def likeliest(figure: Figure, poses: Poses, points: np.ndarray, markers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """``(segments (n,), how loose (n,))``: where markers keep their place best, and within how many metres.

    ``points (frames, all markers, 3)``; ``markers (n,)``: those that are asked about. Segments whose surface is far are passed over.
    """
    structure = figure.structure
    loose = np.full((len(markers), len(structure)), np.inf)
    some = np.unique(np.linspace(0, len(points) - 1, 800).astype(int))
    turns, places = world(structure, figure.offsets, poses.picked(some))
    surface = Surface(structure, figure.offsets, figure.stature)
    for n, marker in enumerate(markers):
        seen = np.isfinite(points[some, marker]).all(-1)
        if seen.sum() < 3:
            continue
        local = in_axes(turns, places, points[some, marker].T[None])[0][..., seen]
        middle = np.median(local, axis=-1)
        spread = np.median(np.linalg.norm(local - middle[..., None], axis=1), axis=-1)
        _, far = surface.nearest(middle[..., None])
        loose[n] = np.where(np.abs(far[:, 0]) < _BESIDE, spread, np.inf)
    return loose.argmin(1), loose.min(1)


def is_mirrored(structure: Structure, a: int, b: int) -> bool:
    """Whether two segments are the left and the right of one."""
    return a != b and mirrored(structure.names[a]) == structure.names[b]


def rides(loose: float) -> bool:
    """Whether a marker that is so loose (metres) goes with its segment."""
    return loose < _LOOSE
