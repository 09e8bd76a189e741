"""The one place that keeps what was worked out, so that it is not worked out again: bounded, and safe in threads.

Values belong to their inputs: to what is equal (texts, numbers, tuples, settings), or to the very object (skeletons,
clips, arrays), which the evaluator does not keep alive. What was not asked for lately is let go first.
"""

from __future__ import annotations

import dataclasses
import threading
import weakref
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

import numpy as np
from cachetools import LRUCache

T = TypeVar("T")
LIMIT = 28 << 20  # bytes of values that were not asked for lately
LATELY = 3000  # questions ago: what is in use is never let go, however large it is
_LEAST = 256  # bytes that any value counts for
_PLAIN = frozenset((str, bytes, int, float, bool, type(None)))
_SMALL = frozenset((int, float, bool, type(None)))
_GROUPS = frozenset((list, tuple, set, frozenset))


class _Same:
    """A key that only one object has; it does not keep the object alive."""

    __slots__ = ("_hash", "_ref")

    def __init__(self, thing: object) -> None:
        self._ref, self._hash = weakref.ref(thing), id(thing)

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        mine = self._ref()
        return mine is not None and isinstance(other, _Same) and mine is other._ref()


@dataclasses.dataclass
class _Kept:
    value: Any
    size: int
    asked: int


class Evaluator:
    """Gives values by what they are of; see the module.

    >>> of = Evaluator().of
    >>> of("sum", (1, 2), lambda: 3), of("sum", (1, 2), lambda: 4)
    (3, 3)
    """

    def __init__(self, limit: int = LIMIT, lately: int = LATELY) -> None:
        self.limit, self.lately = limit, lately
        self._lock, self._asked = threading.RLock(), 0
        # Without a bound of its own: what may be let go also depends on when it was asked for.
        self._kept: LRUCache[Hashable, _Kept] = LRUCache(float("inf"), getsizeof=lambda kept: kept.size)

    def of(self, what: str, inputs: tuple, make: Callable[[], T]) -> T:
        """The value that ``make`` gives for ``inputs``; ``what`` tells values of the same inputs apart.

        Two threads that ask at the same time may both work it out; the first one's value is what both get.
        """
        key, kept = self._look(what, inputs)
        if kept is not None:
            return kept.value  # type: ignore[no-any-return]
        value = make()
        with self._lock:
            if key not in self._kept:
                self._kept[key] = _Kept(value, _LEAST + nbytes(value, _of_inputs(inputs)), self._asked)
                self._let_go()
                return value
            return self._kept[key].value

    def peek(self, what: str, inputs: tuple) -> Any:
        """The value for ``inputs`` where it was worked out already, else None."""
        kept = self._look(what, inputs)[1]
        return None if kept is None else kept.value

    def _look(self, what: str, inputs: tuple) -> tuple[Hashable, _Kept | None]:
        key = (what, *[x if type(x) in _PLAIN else _key_of(x) for x in inputs])
        with self._lock:
            self._asked += 1
            if key not in self._kept:
                return key, None
            kept = self._kept[key]
            kept.asked = self._asked
            return key, kept

    def let_go(self, what: str, inputs: tuple) -> None:
        """Keep the value for ``inputs`` no longer, as large ones that nobody will ask for again."""
        key, _ = self._look(what, inputs)
        with self._lock:
            self._kept.pop(key, None)

    @property
    def size(self) -> int:
        """Bytes of all that is kept."""
        return int(self._kept.currsize)

    def clear(self) -> None:
        """Let go of everything."""
        with self._lock:
            self._kept.clear()

    def _let_go(self) -> None:
        while self._kept.currsize > self.limit:
            key, kept = self._kept.popitem()
            if kept.asked > self._asked - self.lately:
                self._kept[key] = kept  # in use, as all that follows is
                return


def _key_of(thing: Any) -> Hashable:
    """An input by what it is equal to, or as the very object where nothing else is like it."""
    kind = type(thing)
    if kind.__eq__ is object.__eq__ or isinstance(thing, np.ndarray):
        return _Same(thing)
    try:
        hash(thing)
    except TypeError:
        return _Same(thing)
    return thing  # type: ignore[no-any-return]


def _of_inputs(inputs: tuple) -> set:
    """What is there anyway, with the inputs, and does not count as the value's own."""
    shared = set(map(id, inputs))
    for thing in inputs:
        for field in getattr(thing, "__dict__", {}).values():
            shared.add(id(field))
            if type(field) is dict:
                shared.update(map(id, field.values()))
    return shared


def nbytes(value: Any, shared: set | None = None) -> int:
    """Bytes of all arrays, texts and bytes in a value, each counted once; 16 for anything else.

    ``shared``: the ids of what is not counted; what was counted is added to them.
    """
    seen, total, todo = set() if shared is None else shared, 0, [value]
    push, count = todo.extend, seen.add
    while todo:
        thing = todo.pop()
        kind = type(thing)
        if kind in _SMALL:
            total += 16
            continue
        key = id(thing)
        if key in seen:
            continue
        count(key)
        if kind is str or kind is bytes:
            total += len(thing)
        elif kind in _GROUPS:
            push(thing)
        elif kind is dict:
            push(thing)
            push(thing.values())
        elif isinstance(thing, np.ndarray):
            total += thing.nbytes
        else:
            fields = getattr(thing, "__dict__", None)
            if fields is not None:
                push(fields.values())
            else:
                total += len(thing) if isinstance(thing, bytearray | memoryview) else 16
    return total


EVALUATOR = Evaluator()
