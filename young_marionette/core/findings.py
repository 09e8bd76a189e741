"""What is told of a file or of the work, as codes and values; the sentences are made where they are shown."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Finding:
    """``code``: what it is; ``values``: what belongs to it, by name (texts, numbers, or lists of these)."""

    code: str
    values: Mapping[str, Any] = field(default_factory=dict)

    def __getitem__(self, name: str) -> Any:
        return self.values[name]


def finding(code: str, /, **values: Any) -> Finding:
    """A Finding, its values by name.

    >>> finding("floor", metres=0.04)["metres"]
    0.04
    """
    return Finding(code, values)


@dataclass(frozen=True)
class Fact:
    """One thing that is known of a file. ``source``: what it was taken from. ``sure`` false: a guess."""

    code: str
    values: Mapping[str, Any]
    source: Finding | None = None
    sure: bool = True

    def __getitem__(self, name: str) -> Any:
        return self.values[name]


MANUAL = Finding("manual")
DECLARED = Finding("declared")
