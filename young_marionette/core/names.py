"""Names that nothing else has yet."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from itertools import chain, count


def first_free(names: Iterable[str], taken: Collection[str]) -> str:
    """The first of some names that is not taken."""
    return next(name for name in names if name not in taken)


def free_name(name: str, taken: Collection[str], form: str = "{} {}") -> str:
    """``name``, or with the first number behind it that is not taken; ``form``: of the name and its number.

    >>> free_name("walk", {"walk", "walk 2"}), free_name("hip", {"hip"}, "{}_{}")
    ('walk 3', 'hip_2')
    """
    return first_free(chain([name], (form.format(name, number) for number in count(2))), taken)


class FreeNames:
    """Names that are given one after the other, each different from all before; for many equal ones in linear time.

    >>> give = FreeNames().give
    >>> give("walk"), give("walk"), give("walk 2"), give("walk")
    ('walk', 'walk 2', 'walk 2 2', 'walk 3')
    """

    def __init__(self, form: str = "{} {}") -> None:
        self._form, self._taken, self._next = form, set[str](), dict[str, int]()

    def give(self, name: str) -> str:
        """``name``, or with the first number behind it that is not taken."""
        free = name
        if name in self._taken:
            number = self._next.get(name, 2)
            while (free := self._form.format(name, number)) in self._taken:
                number += 1
            self._next[name] = number + 1
        self._taken.add(free)
        return free
