"""What of a project is delivered: which clips on which rigs, what each file will be called, and what stands against it."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from ...core.errors import InputError
from ...core.evaluator import EVALUATOR
from ...core.findings import Finding, finding
from ...formats.files import check_results
from ...formats.registry import ENDINGS
from .. import stringing as stringings
from ..bakes import Bake
from ..entry import CLIP, RIG, Entry
from ..opening import inputs_of
from ..pairing import gaps, pair
from ..shaping import check_shape
from . import parcels
from .job import Job, Order
from .making import Ready, length
from .plan import check_folder
from .recipe import Recipe
from .work import paths, prepared

if TYPE_CHECKING:
    from ..document import State

BAKED_CLIP, LIBRARY = "baked", "library"
_BYTES = {".bvh": 34.0, ".glb": 16.0, ".gltf": 22.0, ".vrma": 16.0, ".usda": 40.0, ".usdc": 16.0, ".usdz": 16.0}


@dataclass(frozen=True)
class Wanted:
    """What is asked for in the window. ``left_out``: ids of baked clips that are not delivered; ``clips``: ids of clips of the
    library that are, onto the rigs whose ids are in ``rigs``.
    """

    recipe: Recipe = field(default_factory=Recipe)
    folder: str = ""
    overwrite: bool = False
    left_out: frozenset[str] = frozenset()
    clips: frozenset[str] = frozenset()
    rigs: frozenset[str] = frozenset()

    def ticked(self, what: Bake | Entry, on: bool) -> Wanted:
        """With a clip among those that are delivered, or not."""
        if isinstance(what, Bake):
            rest = self.left_out - {what.id}
            return replace(self, left_out=rest if on else rest | {what.id})
        return replace(self, clips=self.clips | {what.id} if on else self.clips - {what.id})

    def has(self, what: Bake | Entry) -> bool:
        """Whether a clip is among those that are delivered."""
        return what.id not in self.left_out if isinstance(what, Bake) else what.id in self.clips

    @property
    def place(self) -> Path:
        """The folder."""
        return Path(self.folder.strip()).expanduser()


@dataclass(frozen=True, eq=False)
class Row:
    """A clip on a rig. ``rig`` None: a clip of the library while no rig is chosen. ``ready`` None: it can't be delivered for the
    ``problem``. ``exists``: its file is there, and is left alone.
    """

    what: Bake | Entry
    rig: Entry | None
    chosen: bool
    number: int = 0
    ready: Ready | None = None
    outs: tuple[Path, ...] = ()
    problem: Finding | None = None
    exists: bool = False

    @property
    def key(self) -> tuple[str, str]:
        """What tells it from all other rows."""
        return self.what.id, self.rig.id if self.rig is not None else ""

    @property
    def goes(self) -> bool:
        """Whether it is delivered."""
        return self.chosen and self.ready is not None and self.problem is None and not self.exists


def candidates(state: State, wanted: Wanted) -> list[tuple[Bake | Entry, Entry | None]]:
    """All clips that may be delivered, each with its rig: what is baked, and the library's clips on each chosen rig."""
    rigs = [e for e in state.of_role(RIG) if e.id in wanted.rigs]
    moving = [e for e in state.of_role(CLIP) if e.take is not None and e.take.frames > 2]
    return [*((b, b.rig) for b in state.bakes), *((e, rig) for e in moving for rig in rigs or [None])]  # type: ignore[list-item]


def rows_of(state: State, wanted: Wanted, today: date | None = None) -> list[Row]:
    """The rows of all candidates, with what each will be called and what stands against it."""
    order = order_of(wanted, today)
    inputs = [path for entry in state.entries for path in inputs_of(entry)]
    rows, number = [], 0
    for what, rig in candidates(state, wanted):
        chosen = wanted.has(what)
        number += chosen and rig is not None
        rows.append(_row(state, wanted, order, what, rig, chosen, number, inputs))
    counts = Counter(out for row in rows if row.chosen for out in row.outs)
    if wanted.recipe.together:  # then they are to meet
        return rows
    return [_met(row, counts) for row in rows]


def _folder(state: State, wanted: Wanted, ready: Ready) -> Path:
    """Where a clip's files go: as its own file lies among those of all clips, where subfolders are kept."""
    source = ready.source
    if not wanted.recipe.subfolders or wanted.recipe.together or source is None or source.path is None:
        return wanted.place
    folders = {str(e.path.absolute().parent) for e in state.of_role(CLIP) if e.path is not None}
    try:
        above = os.path.commonpath(folders | {str(source.path.absolute().parent)})
    except ValueError:
        return wanted.place
    return wanted.place / source.path.absolute().parent.relative_to(above)


def _met(row: Row, counts: Counter[Path]) -> Row:
    """The row, told where its file would also be written from another clip."""
    if row.chosen and row.problem is None and any(counts[out] > 1 for out in row.outs):
        return replace(row, problem=finding("names meet", file=row.outs[0].name))
    return row


def _row(
    state: State,
    wanted: Wanted,
    order: Order,
    what: Bake | Entry,
    rig: Entry | None,
    chosen: bool,
    number: int,
    inputs: list,
) -> Row:
    row = Row(what, rig, chosen, number)
    if rig is None:
        return row
    try:
        ready = ready_of(state, what, rig)
        if ready is None:
            return replace(row, problem=finding("not tied", clip=what.name, rig=rig.name))
        job = Job(number, (what.name,), (rig.name,), str(_folder(state, wanted, ready)), order, parcel=True)
        called, file = (ready.name, ready.file)
        if wanted.recipe.together:
            called = file = wanted.recipe.name or "clips"
        stem = wanted.recipe.names.of(called, rig.name, file, order.date, number)
        outs = tuple(paths(job, ready, stem))
        row = replace(row, ready=ready, outs=outs)
        if not chosen:
            return row
        if (
            ready.pairing is not None
            and ready.bake is None
            and ready.source is not None
            and (parts := gaps(ready.pairing, ready.source, rig))
        ):
            return replace(row, problem=finding("strings missing", clip=what.name, rig=rig.name, parts=list(parts)))
        length(ready, wanted.recipe)
        _, shape = prepared(job, ready)
        for out in outs:
            if wanted.recipe.together and not ENDINGS[out.suffix.lower()].several:
                return replace(row, problem=finding("one clip a file", ending=out.suffix))
            check_shape(out, rig, shape)
        there = any(os.path.lexists(out) for out in outs)
        if there:  # else it can be none of them
            check_results(outs, inputs)
    except InputError as error:
        return replace(row, problem=finding("text", text=str(error)))
    return replace(row, exists=there and not wanted.overwrite)


def ready_of(state: State, what: Bake | Entry, rig: Entry) -> Ready | None:
    """A clip with how it is tied: as it was baked, as the project has it, or by a stringing that fits; None where nothing does."""
    ready = parcels.ready_of(state, what, rig)
    if ready is not None or isinstance(what, Bake):
        return ready
    for file in state.stringings:
        if (file.source.fingerprint, file.target.fingerprint) == (what.family, rig.family):
            of = file, what.placed_skeleton, rig.placed_skeleton
            pairing = EVALUATOR.of("pairing of a stringing", of, lambda f=file: stringings.from_file(f, what, rig))  # type: ignore[misc]
            stem = what.path.stem if what.path is not None else what.name
            return Ready(what.name, stem, what, rig, pairing, stringing=file.name)
    return None


def untied(rows: Iterable[Row]) -> list[tuple[Entry, Entry]]:
    """One clip and its rig of each two families that chosen rows lack strings between."""
    pairs: dict[tuple[str, str], tuple[Entry, Entry]] = {}
    for row in rows:
        if row.chosen and row.problem is not None and row.problem.code == "not tied":
            assert isinstance(row.what, Entry) and row.rig is not None  # what is baked was tied
            pairs.setdefault((row.what.family, row.rig.family), (row.what, row.rig))
    return list(pairs.values())


@dataclass(frozen=True, eq=False)
class TiePairs:
    """Tie clips and rigs that have no strings between their families yet."""

    pairs: tuple[tuple[Entry, Entry], ...]
    label: str = "tie for a delivery"

    def run(self, state: State) -> State:
        made = {(source.family, rig.family): pair(source, rig) for source, rig in self.pairs}
        return replace(state, pairings={**made, **state.pairings})


def order_of(wanted: Wanted, today: date | None = None) -> Order:
    """What all jobs of a delivery share."""
    return Order(wanted.recipe, str(wanted.place), False, (), wanted.overwrite, (today or date.today()).isoformat())


def problems_of(wanted: Wanted, rows: Sequence[Row]) -> list[Finding]:
    """What is in the way as a whole; with any of these, nothing can be begun. Rows tell their own."""
    chosen = [row for row in rows if row.chosen]
    if not rows:
        return [finding("nothing baked")]
    problems = []
    if not chosen:
        problems.append(finding("no clip selected"))
    elif not wanted.rigs and all(row.rig is None for row in chosen):
        problems.append(finding("no rig selected"))
    if not wanted.folder.strip():
        return [*problems, finding("no folder")]
    try:
        check_folder(wanted.place, sum(map(_size, (row for row in rows if row.goes))))
    except InputError as error:
        problems.append(finding("text", text=str(error)))
    return problems


def _size(row: Row) -> int:
    """About how many bytes a row's files take."""
    frames = row.what.length[0]
    joints = len(row.what.skeleton)
    body = row.rig.character if row.rig is not None else None
    vertices = sum(len(m.points) for m in body.meshes) if body is not None else 0
    return int(
        sum(
            _BYTES[o.suffix.lower()] * frames * joints + 60 * vertices * ENDINGS[o.suffix.lower()].body
            for o in row.outs
        )
    )


def jobs_of(folder: Path, rows: Sequence[Row], order: Order) -> list[Job]:
    """The jobs of all rows that are delivered; what they need is put into files in ``folder``.

    All clips of a rig are one job where they go into one file.
    """
    going = [row for row in rows if row.goes and row.ready is not None]
    if not order.recipe.together:
        return [
            parcels.job_of(folder, r.number, r.ready, order, str(r.outs[0].parent))
            for r in going
            if r.ready is not None
        ]
    by_rig: dict[str, list[Row]] = {}
    for row in going:
        assert row.rig is not None  # what goes has one
        by_rig.setdefault(row.rig.id, []).append(row)
    jobs = []
    for rows in by_rig.values():
        sources = tuple(str(parcels.packed(folder, r.number, r.ready)) for r in rows if r.ready is not None)
        rig = rows[0].rig.name if rows[0].rig is not None else ""
        label = f"{len(rows)} clips on {rig}"
        jobs.append(Job(rows[0].number, sources, (rig,), order.folder, order, parcel=True, label=label))
    return jobs
