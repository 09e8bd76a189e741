"""What is to be done, and what became of it: plain values that go to workers and come back."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from .recipe import Recipe

DONE, FAILED, SKIPPED, PLANNED = ("done", "failed", "skipped", "planned")
WAITING, RUNNING = "waiting", "running"


@dataclass(frozen=True)
class Order:
    """What all jobs of one delivery share. ``folder``: that all results lie in or under, which is there; with ``journal`` it is
    noted there what is done. ``stringings``: paths; with any, what none of them fits is not delivered.

    ``date``: for names. ``dry``: look, and say what would be written. ``measured``: how far feet are off is told, with
    ``pictures`` of so many poses.
    """

    recipe: Recipe = Recipe()
    folder: str = ""
    journal: bool = False
    stringings: tuple[str, ...] = ()
    overwrite: bool = False
    date: str = ""
    dry: bool = False
    measured: bool = False
    pictures: int = 0


@dataclass(frozen=True)
class Job:
    """Files that are made of one source, of all its clips or of some, on each of some rigs; or of many, where they go together.

    ``sources``: paths of files, or of one that ``parcels`` made, where ``parcel`` is set. ``clips``: names; without any, all
    that move. ``folder``: where the files go. ``number``: of the job in its order, from 1. ``label``: what it is called.
    ``again``: an earlier try was cut off; files that it has written already count as this one's.
    """

    number: int
    sources: tuple[str, ...]
    rigs: tuple[str, ...]
    folder: str
    order: Order
    clips: tuple[str, ...] = ()
    parcel: bool = False
    label: str = ""
    again: bool = False

    @property
    def name(self) -> str:
        """What it is called: its source."""
        return self.label or self.sources[0]

    def on(self, rig: str) -> Job:
        """The same for one of its rigs alone."""
        return replace(self, rigs=(rig,))


@dataclass(frozen=True)
class Measures:
    """How far feet, and ``hands`` that hold something, are off in a delivered clip, and in what the transfer alone would give.

    Metres, ``(before, after)``.
    """

    slide: tuple[float, float] = (0.0, 0.0)
    sink: tuple[float, float] = (0.0, 0.0)
    hover: tuple[float, float] = (0.0, 0.0)
    touching: tuple[float, float] = (0.0, 0.0)
    hands: tuple[float, float] = (0.0, 0.0)
    lowered: float = 0.0


@dataclass(frozen=True)
class Item:
    """One clip on one rig: what became of it (``state``), or in one sentence why nothing did (``why``).

    ``outs``: paths of its files. ``exists``: it was left alone since its file is there. ``before``: an earlier run of the same
    delivery made it. ``pictures``: PNG files.
    """

    state: str
    source: str
    rig: str
    clip: str = ""
    outs: tuple[str, ...] = ()
    why: str = ""
    number: int = 0
    frames: int = 0
    rate: float = 0.0
    size: int = 0
    keys: bool = False
    made_dense: bool = False
    stringing: str = ""
    exists: bool = False
    before: bool = False
    notes: tuple[str, ...] = ()
    measures: Measures | None = None
    pictures: tuple[bytes, ...] = field(default=(), repr=False)

    @property
    def seconds(self) -> float:
        """Its length."""
        return max(self.frames - 1, 0) / self.rate if self.rate else 0.0


def failed(job: Job, rig: str, why: str, clip: str = "", outs: tuple[str, ...] = ()) -> Item:
    """A clip of a job that could not be delivered on a rig."""
    return Item(FAILED, job.name, rig, clip, outs, why, job.number)
