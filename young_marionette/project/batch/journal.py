"""The journal of a delivery: which files it has made, kept in its folder, so that it can go on later from where it stood."""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from ...core.errors import InputError
from ...formats.files import status_of
from .job import DONE, FAILED, Item, Job

NAME = ".young-marionette-delivery"
_KEPT = ("source", "rig", "clip", "outs", "frames", "rate", "size", "keys", "made_dense", "stringing", "number")


def stamp_of(job: Job, rig: str) -> str:
    """A text that changes with anything that the files of a job on a rig are made from."""
    order = job.order
    made = hashlib.sha256(order.recipe.model_dump_json(exclude={"rigs", "stringings"}).encode())
    for path in (*job.sources, rig, *order.stringings):
        status = status_of(path)
        told = None if status is None else (status.st_size, status.st_mtime_ns)
        made.update(f"{os.path.abspath(path)}\n{told}\n".encode("utf-8", "surrogateescape"))
    day = order.date if "{date" in order.recipe.names.template else ""
    made.update(f"{job.clips}\n{os.path.abspath(job.folder)}\n{day}".encode("utf-8", "surrogateescape"))
    return made.hexdigest()[:32]


class Journal:
    """What was delivered into a folder. Lines of JSON are added to its file as clips are done."""

    def __init__(self, folder: str | Path) -> None:
        self.path = Path(folder) / NAME
        self._known: dict[str, list[Item]] = {}

    def load(self) -> None:
        """Read what earlier runs did; lines that were cut off do not count."""
        try:
            lines = self.path.read_text("utf-8", "surrogateescape").splitlines()
        except FileNotFoundError:
            return
        except OSError as error:
            raise InputError(f"{self.path} can't be read: {error.strerror or error}.") from None
        for line in lines:
            try:
                told = json.loads(line)
                self._known[str(told["stamp"])] = [_item(one) for one in told["items"]]
            except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
                continue

    @property
    def made(self) -> set[str]:
        """The paths of all files that are noted."""
        return {out for items in self._known.values() for item in items for out in item.outs}

    def done(self, job: Job, rig: str) -> list[Item] | None:
        """What an earlier run of the same made on a rig, where all of it is still there; None where it is to be made."""
        items = self._known.get(stamp_of(job, rig))
        if not items or not all(_there(item) for item in items):
            return None
        return [replace(item, number=job.number) for item in items]

    def note(self, job: Job, rig: str, items: list[Item]) -> None:
        """Write down what became of a job on a rig, where all of it is done. Several processes may do so at once."""
        items = [item for item in items if item.rig == rig]
        if any(item.state == FAILED or item.exists for item in items):
            return
        items = [item for item in items if item.state == DONE]
        if not items:
            return
        kept = [{name: value for name, value in asdict(item).items() if name in _KEPT} for item in items]
        line = json.dumps({"stamp": stamp_of(job, rig), "items": kept}) + "\n"
        try:
            with open(self.path, "ab", buffering=0) as file:
                file.write(line.encode())
        except OSError:
            return  # a folder that is gone, or full, is told by what could not be written there


_TEXTS, _NUMBERS = ("source", "rig", "clip", "stringing"), ("frames", "rate", "size", "number")


def _item(one: dict[str, Any]) -> Item:
    """An item as it was noted; ValueError for anything that no run notes."""
    texts = [*(one.get(name, "") for name in _TEXTS), *one["outs"]]
    numbers = [one.get(name, 0) for name in _NUMBERS]
    if not isinstance(one["outs"], list) or not all(isinstance(text, str) and "\0" not in text for text in texts):
        raise ValueError("no texts")
    if not all(isinstance(n, int | float) and not isinstance(n, bool) and abs(n) < 1e15 for n in numbers):
        raise ValueError("no numbers")
    return Item(DONE, **{**one, "outs": tuple(one["outs"])}, before=True)


def _there(item: Item) -> bool:
    sizes = []
    for out in item.outs:
        try:
            status = status_of(out)
        except InputError:
            return False  # no path at all
        if status is None:
            return False
        sizes.append(status.st_size)
    return not item.size or sum(sizes) == item.size
