"""The one place that keeps what was worked out, so that it is not worked out again: bounded, and safe in threads.

Values belong to their inputs: to what is equal (texts, numbers, tuples, settings), or to the very object (skeletons,
clips, arrays). The evaluator keeps no such object alive, and drops what it keeps for one when that dies. Never more than
``limit`` bytes are kept; beyond ``idle`` bytes, what was not asked for lately is evicted, least recently used first.
"""

from __future__ import annotations

import dataclasses
import threading
import weakref
from collections import OrderedDict, deque
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from functools import partial
from typing import Any, TypeVar

import numpy as np

T = TypeVar("T")
LIMIT = 512 << 20  # bytes that are kept at most, whatever is in use
IDLE = 28 << 20  # bytes of values that were not asked for lately
LATELY = 3000  # questions ago
_LEAST = 256  # bytes that any value counts for
_TEXTS = frozenset((str, bytes, type(None)))
_NUMBERS = frozenset((int, float, bool))
_SMALL = frozenset((int, float, bool, type(None)))
_GROUPS = frozenset((list, tuple, set, frozenset))


class _Same:
    """A key that only one object has; it does not keep the object alive."""

    __slots__ = ("_hash", "ref")

    def __init__(self, thing: object) -> None:
        self.ref, self._hash = weakref.ref(thing), id(thing)

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        mine = self.ref()
        return mine is not None and isinstance(other, _Same) and mine is other.ref()


@dataclasses.dataclass
class _Kept:
    """``itself``: the input that is the value, in place of the value. ``refs``: to the inputs, which tell when one dies."""

    value: Any
    itself: int | None
    size: int
    asked: int
    refs: tuple[Any, ...]
    weak: bool

    def of(self, inputs: tuple) -> Any:
        if self.weak:
            return self.value()
        return self.value if self.itself is None else inputs[self.itself]


class Evaluator:
    """Gives values by what they are of; see the module.

    >>> of = Evaluator().of
    >>> of("sum", (1, 2), lambda: 3), of("sum", (1, 2), lambda: 4)
    (3, 3)
    """

    def __init__(self, limit: int = LIMIT, idle: int = IDLE, lately: int = LATELY) -> None:
        self.limit, self.idle, self.lately = limit, min(idle, limit), lately
        self._lock, self._busy, self._asked = threading.RLock(), False, 0
        self._dead: deque[Hashable] = deque()
        self._kept: OrderedDict[Hashable, _Kept] = OrderedDict()  # least recently used first
        self._bytes = 0

    def of(self, what: str, inputs: tuple, make: Callable[[], T], weak: bool = False) -> T:
        """The value that ``make`` gives for ``inputs``; ``what`` tells values of the same inputs apart.

        ``weak``: it is only kept as long as somebody else holds it, so that all who ask meanwhile get the same object.
        Two threads that ask at the same time may both work it out; the first one's value is what both get.
        """
        key, kept = self._look(what, inputs)
        if kept is not None and (found := kept.of(inputs)) is not None:
            return found  # type: ignore[no-any-return]
        if kept is not None and not kept.weak:
            return None  # type: ignore[return-value]  # which is what was worked out
        value = make()
        itself = next((n for n, thing in enumerate(inputs) if thing is value), None)
        own = 0 if weak or itself is not None else nbytes(value, _of_inputs(inputs))
        size = _LEAST + _key_bytes(key) + own
        with self._held():
            if key in self._kept and (found := self._kept[key].of(inputs)) is not None:
                return found  # type: ignore[no-any-return]
            if size <= self.limit:
                self._evict(size)
                died = partial(self._died, key)
                refs = [weakref.ref(thing, died) for same in _sames(key) if (thing := same.ref()) is not None]
                held = weakref.ref(value, died) if weak and itself is None else None if itself is not None else value
                self._drop(key)
                self._kept[key] = _Kept(held, itself, size, self._asked, tuple(refs), weak and itself is None)
                self._bytes += size
        return value

    def peek(self, what: str, inputs: tuple) -> Any:
        """The value for ``inputs`` where it was worked out already, else None."""
        kept = self._look(what, inputs)[1]
        return None if kept is None else kept.of(inputs)

    def _look(self, what: str, inputs: tuple) -> tuple[Hashable, _Kept | None]:
        key = (what, *map(_key_of, inputs))
        with self._held():
            self._asked += 1
            if key not in self._kept:
                return key, None
            kept = self._kept[key]
            kept.asked = self._asked
            self._kept.move_to_end(key)
            return key, kept

    @property
    def size(self) -> int:
        """Bytes of all that is kept."""
        with self._held():
            return self._bytes

    def clear(self) -> None:
        """Drop everything."""
        with self._held():
            self._kept.clear()
            self._bytes = 0

    @contextmanager
    def _held(self) -> Iterator[None]:
        """The lock; what belongs to inputs that died is dropped first."""
        with self._lock:
            outer, self._busy = self._busy, True
            try:
                if not outer:
                    self._drop_dead()
                yield
            finally:
                self._busy = outer

    def _died(self, key: Hashable, _ref: object) -> None:
        # Objects die anywhere, also while this thread is in the middle of changing what is kept.
        self._dead.append(key)
        if self._lock.acquire(blocking=False):
            try:
                if not self._busy:
                    with self._held():
                        pass
            finally:
                self._lock.release()

    def _drop_dead(self) -> None:
        while self._dead:
            self._drop(self._dead.popleft())

    def _drop(self, key: Hashable) -> None:
        kept = self._kept.pop(key, None)
        self._bytes -= 0 if kept is None else kept.size

    def _evict(self, more: int) -> None:
        """Make room for ``more`` bytes; beyond what may be idle, only by what was not asked for lately."""
        while self._kept and self._bytes + more > self.idle:
            key, oldest = next(iter(self._kept.items()))
            if self._bytes + more <= self.limit and oldest.asked > self._asked - self.lately:
                return  # in use, as all that follows is
            self._drop(key)


def _key_of(thing: Any) -> Hashable:
    """An input by what it is equal to, or as the very object where nothing else is like it."""
    kind = type(thing)
    if kind in _TEXTS:
        return thing  # type: ignore[no-any-return]
    if kind in _NUMBERS:
        return kind, thing  # 1, True and 1.0 are equal, and mean different things
    if kind is tuple:
        return tuple, *map(_key_of, thing)
    if kind.__eq__ is object.__eq__ or kind is np.ndarray:
        return _Same(thing)
    try:
        hash(thing)
    except TypeError:
        return _Same(thing)
    return thing  # type: ignore[no-any-return]


def _sames(key: Any) -> Iterator[_Same]:
    """All objects that a key stands for as themselves."""
    todo = [key]
    while todo:
        part = todo.pop()
        if type(part) is tuple:
            todo.extend(part)
        elif type(part) is _Same:
            yield part


def _key_bytes(key: Any) -> int:
    """Bytes that a key keeps alive."""
    todo, total = [key], 0
    while todo:
        part = todo.pop()
        if type(part) is tuple:
            todo.extend(part)
        elif type(part) is not _Same and type(part) is not type:
            total += nbytes(part)
    return total


def _of_inputs(inputs: tuple) -> set:
    """What is there anyway, with the inputs, and does not count as the value's own."""
    shared = set(map(id, inputs))
    for thing in inputs:
        for field in _fields(thing):
            shared.add(id(field))
            if type(field) is dict:
                shared.update(map(id, field.values()))
            elif isinstance(field, np.ndarray):
                shared.add(id(_owner(field)))
        if isinstance(thing, np.ndarray):
            shared.add(id(_owner(thing)))
    return shared


def _fields(thing: Any) -> list[Any]:
    """The values of an object's fields, in its dictionary and in slots."""
    values = list(getattr(thing, "__dict__", {}).values())
    for kind in type(thing).__mro__:
        slots = kind.__dict__.get("__slots__", ())
        for name in (slots,) if isinstance(slots, str) else slots:
            if name not in ("__dict__", "__weakref__") and hasattr(thing, name):
                values.append(getattr(thing, name))
    return values


def _owner(array: np.ndarray) -> np.ndarray:
    """The array whose memory a view looks at."""
    while isinstance(array.base, np.ndarray):
        array = array.base
    return array


def nbytes(value: Any, shared: set | None = None) -> int:
    """Bytes of all arrays, texts and bytes in a value, each counted once; 16 for anything else.

    A view counts as all that it keeps in memory. ``shared``: the ids of what is not counted; what was counted is added to them.
    """
    seen, total, todo = set() if shared is None else shared, 0, [value]
    push, count = todo.extend, seen.add
    while todo:
        thing = todo.pop()
        kind = type(thing)
        if kind in _SMALL:
            total += 16
            continue
        if isinstance(thing, np.ndarray):
            thing = _owner(thing)
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
        elif isinstance(thing, bytearray | memoryview):
            total += len(thing)
        elif isinstance(thing, type) or callable(thing):
            total += 16
        else:
            fields = _fields(thing)
            push(fields)
            total += 0 if fields else 16
    return total


EVALUATOR = Evaluator()
