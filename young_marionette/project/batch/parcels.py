"""What is in a project, baked or not, on its way to workers: files of our own in a folder that only this user can read."""

from __future__ import annotations

import pickle
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..bakes import Bake
from ..entry import Entry
from .job import Job, Order
from .making import Ready

if TYPE_CHECKING:
    from ..document import State


def ready_of(state: State, what: Bake | Entry, rig: Entry | None) -> Ready | None:
    """A baked clip, or a clip on a rig by what the project has tied; None where nothing is tied."""
    if isinstance(what, Bake):
        source = next((e for e in state.entries if e.id == what.source), None)
        name = clip_name(what)
        file = source.path.stem if source is not None and source.path is not None else name
        return Ready(name, file, source, what.rig, what.pairing, what, stage=what.passed.result)
    assert rig is not None  # only baked clips know theirs
    pairing = state.pairing_of(what, rig)
    if pairing is None:
        return None
    return Ready(what.name, what.path.stem if what.path is not None else what.name, what, rig, pairing)


def clip_name(bake: Bake) -> str:
    """What the clip of a bake is called: its own name, without the rig's where that was put in by itself.

    A second bake, ``walk on Heron 2``, is the clip ``walk 2``.
    """
    name = re.sub(r" on (?:controls|bones)(?= \d+$|$)", "", bake.name)
    head, found, tail = name.rpartition(f" on {bake.rig.name}")
    return head + tail if found and (not tail or tail[1:].isdigit()) else name


def parcel_of(folder: Path, number: int, state: State, what: Bake | Entry, rig: Entry | None, order: Order) -> Job:
    """A job on what lies in a project, with a file in ``folder`` that holds it all."""
    ready = ready_of(state, what, rig)
    assert ready is not None  # what is not tied is no job
    return job_of(folder, number, ready, order)


def job_of(folder: Path, number: int, ready: Ready, order: Order, into: str = "") -> Job:
    """A job on a clip, with a file in ``folder`` that holds it; rigs lie in files of their own, one for many clips.

    ``into``: the folder of its results, where that is not the order's own.
    """
    path = str(packed(folder, number, ready))
    return Job(number, (path,), (ready.rig.name,), into or order.folder, order, parcel=True, label=ready.name)


def packed(folder: Path, number: int, ready: Ready) -> Path:
    """A file in ``folder`` that holds a clip with all that it needs."""
    path = Path(folder) / f"{number}.clip"
    with open(path, "wb") as file:
        _Packer(file, Path(folder)).dump(ready)
    return path


def opened(path: str) -> Ready:
    """What a file of ``packed`` holds."""
    with open(path, "rb") as file:
        ready: Ready = _Unpacker(file, Path(path).parent).load()
    return ready


class _Plain(pickle.Pickler):
    """Views of a file that is held in memory become bytes of their own."""

    def reducer_override(self, thing: Any) -> Any:
        if isinstance(thing, memoryview):
            return bytes, (thing.tobytes(),)
        return NotImplemented


class _Packer(_Plain):
    """Puts rigs' files, which many clips share, into files of their own."""

    def __init__(self, file: Any, folder: Path) -> None:
        super().__init__(file, protocol=5)
        self.folder = folder

    def persistent_id(self, thing: Any) -> str | None:
        layout = getattr(thing, "format", None) if hasattr(thing, "packed") else None
        if layout is None:
            return None
        name = f"{id(thing)}.layout"
        if not (self.folder / name).exists():
            with open(self.folder / name, "wb") as file:
                _Plain(file, protocol=5).dump(thing)
        return name


class _Unpacker(pickle.Unpickler):
    def __init__(self, file: Any, folder: Path) -> None:
        super().__init__(file)
        self.folder = folder

    def persistent_load(self, name: str) -> Any:
        from ...core.evaluator import EVALUATOR

        def load() -> Any:
            with open(self.folder / name, "rb") as file:
                return pickle.load(file)

        return EVALUATOR.of("layout of a parcel", (str(self.folder / name),), load)
