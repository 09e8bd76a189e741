"""A delivery as it was asked for: which baked clips go where, under which names; what stands against it; writing it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path

from ..core.errors import InputError
from ..core.findings import Finding, finding
from ..core.keys.keyed import KeyedClip
from ..formats.files import check_results
from ..formats.registry import ENDINGS, check_writable, own_ending
from .bakes import Bake
from .delivery import deliver
from .document import State
from .opening import inputs_of


@dataclass(frozen=True)
class Order:
    """``ending``: of the files, such as ``".glb"``; None: that of each rig's own. ``left_out``: ids of baked clips."""

    folder: str = ""
    prefix: str = ""
    suffix: str = ""
    ending: str | None = None
    body: bool = False
    overwrite: bool = False
    left_out: frozenset[str] = frozenset()

    def ticked(self, bake: str, on: bool) -> Order:
        """With a baked clip among those that are written, or not."""
        rest = self.left_out - {bake}
        return replace(self, left_out=rest if on else rest | {bake})


@dataclass(frozen=True, eq=False)
class Item:
    """One file of a delivery. ``body``: with the rig's meshes."""

    bake: Bake
    path: Path
    body: bool

    @property
    def may_have_body(self) -> bool:
        """Whether there is a body, and the format can hold one."""
        return self.bake.character is not None and ENDINGS[self.path.suffix.lower()].body


@dataclass(frozen=True)
class Written:
    """What became of an item: its file's frames and bytes, or in one sentence why there is none.

    ``keys``: it holds the keys of a thinned clip; ``made_dense``: its format can't, and it has a key on every frame.
    """

    path: Path
    frames: int = 0
    size: int = 0
    problem: str = ""
    keys: bool = False
    made_dense: bool = False


def items_of(state: State, order: Order) -> list[Item]:
    """All files that an order asks for."""
    folder, items = Path(order.folder.strip()).expanduser(), []
    for bake in state.bakes:
        if bake.id not in order.left_out:
            ending = order.ending or own_ending(bake.layout.format if bake.layout else "")
            item = Item(bake, folder / f"{order.prefix}{file_name(bake.name)}{order.suffix}{ending}", False)
            items.append(replace(item, body=order.body and item.may_have_body))
    return items


def file_name(name: str) -> str:
    """A clip's name without what file names can't have.

    >>> file_name("walk: 1/2.")
    'walk_ 1_2'
    """
    return "".join("_" if c in '/\\:*?"<>|\0' else c for c in name).strip(". ") or "clip"


def problems_of(state: State, order: Order) -> list[Finding]:
    """What has to be changed before an order can be carried out; empty where nothing has."""
    items, problems = items_of(state, order), []
    if not state.bakes:
        problems.append(finding("nothing baked"))
    elif not items:
        problems.append(finding("no clip selected"))
    if not order.folder.strip():
        return [*problems, finding("no folder")]
    inputs = [path for entry in state.entries for path in inputs_of(entry)]
    for i, item in enumerate(items):
        try:
            check_results([item.path, *(other.path for other in items[:i])], inputs)
            check_writable(item.path, order.overwrite)
        except InputError as error:
            problems.append(finding("text", text=str(error)))
    return [f for i, f in enumerate(problems) if f not in problems[:i]]


def carry_out(items: Iterable[Item], overwrite: bool, progress: Callable[[float], None]) -> list[Written]:
    """Write all items; one that can't be written does not stop the others. ``progress`` is told the share that is done."""
    items, done = list(items), []
    for i, item in enumerate(items):
        progress(i / len(items))
        try:
            take = item.bake.placed_take
            deliver(item.path, take, item.bake.rig, overwrite, item.body)
            keyed = isinstance(take, KeyedClip)
            made_dense = keyed and not ENDINGS[item.path.suffix.lower()].curves
            done.append(
                Written(item.path, take.frames, item.path.stat().st_size, "", keyed and not made_dense, made_dense)
            )
        except InputError as error:
            done.append(Written(item.path, problem=str(error)))
    return done
