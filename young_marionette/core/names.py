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
