"""What a setting may be, told once where it is defined: as metadata of the fields of the dataclasses that hold settings.

>>> from dataclasses import dataclass
>>> @dataclass(frozen=True)
... class Walk:
...     stride: float = number(1.0, above=0.0, most=100.0)
...     def __post_init__(self):
...         check(self)
>>> Walk(stride=-3)
Traceback (most recent call last):
    ...
young_marionette.core.errors.InputError: stride has to be a number above 0, at most 100, not -3.
"""

from __future__ import annotations

import dataclasses
import math
import numbers
from collections.abc import Sequence
from typing import Any

from .errors import InputError

_RULE = "rule"


@dataclasses.dataclass(frozen=True)
class Rule:
    """What a value may be. ``kind``: number, choice, parts (a tuple of choices), or flag.

    ``words``: what may stand in its place, such as ``"auto"``; ``none``: None may, too.
    """

    kind: str
    least: float | None = None
    most: float | None = None
    above: float | None = None
    whole: bool = False
    choices: tuple[Any, ...] = ()
    words: tuple[str, ...] = ()
    none: bool = False

    def allows(self, value: Any) -> bool:
        """Whether ``value`` may be."""
        if value is None:
            return self.none
        if isinstance(value, str) and value in self.words:
            return True
        if self.kind == "flag":
            return isinstance(value, bool)
        if self.kind == "choice":
            return _is_one_of(value, self.choices)
        if self.kind == "parts":
            return isinstance(value, tuple | list) and all(_is_one_of(v, self.choices) for v in value)
        return self._is_number(value)

    def _is_number(self, value: Any) -> bool:
        kinds = numbers.Integral if self.whole else numbers.Real
        if not isinstance(value, kinds) or isinstance(value, bool) or not math.isfinite(value):
            return False
        number = float(value)
        return not (
            (self.least is not None and number < self.least)
            or (self.most is not None and number > self.most)
            or (self.above is not None and number <= self.above)
        )

    @property
    def meaning(self) -> str:
        """What may be, in words."""
        if self.kind == "flag":
            text = "True or False"
        elif self.kind == "choice":
            text = f"one of {', '.join(map(repr, self.choices))}"
        elif self.kind == "parts":
            text = f"some of {', '.join(map(repr, self.choices))}"
        else:
            bounds = [f"above {self.above:g}"] if self.above is not None else []
            bounds += [f"{self.least:g} at the least"] if self.least is not None else []
            bounds += [f"at most {self.most:g}"] if self.most is not None else []
            text = " ".join(("a whole number" if self.whole else "a number", ", ".join(bounds))).strip()
        others = [*map(repr, self.words), *(["None"] if self.none else [])]
        return " or ".join([text, *others])


def _is_one_of(value: Any, choices: Sequence[Any]) -> bool:
    return any(type(value) is type(choice) and value == choice for choice in choices)


def number(
    default: float | str | None,
    least: float | None = None,
    most: float | None = None,
    above: float | None = None,
    whole: bool = False,
    words: Sequence[str] = (),
    none: bool = False,
) -> Any:
    """A field that is a number within bounds (``above``: not that itself)."""
    return _field(default, Rule("number", least, most, above, whole, (), tuple(words), none))


def choice(default: Any, choices: Sequence[Any], none: bool = False) -> Any:
    """A field that is one of a few values."""
    return _field(default, Rule("choice", choices=tuple(choices), none=none))


def parts(default: tuple[str, ...] | None, choices: Sequence[str], none: bool = False) -> Any:
    """A field that is a tuple of some of a few words."""
    return _field(default, Rule("parts", choices=tuple(choices), none=none))


def flag(default: bool) -> Any:
    """A field that is on or off."""
    return _field(default, Rule("flag"))


def _field(default: Any, rule: Rule) -> Any:
    return dataclasses.field(default=default, metadata={_RULE: rule})


def check(settings: Any) -> None:
    """InputError, in one sentence, for a value of a dataclass's field that may not be."""
    for field in dataclasses.fields(settings):
        rule = field.metadata.get(_RULE)
        if rule is not None:
            check_value(field.name, getattr(settings, field.name), rule)


def check_value(name: str, value: Any, rule: Rule) -> None:
    """InputError where ``value`` may not be."""
    if not rule.allows(value):
        raise InputError(f"{name} has to be {rule.meaning}, not {_short(value)}.")


def _short(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 40 else f"{text[:37]}..."


def rule_of(kind: type, name: str) -> Rule:
    """The Rule of a field of a dataclass; KeyError where it has none."""
    found: dict[str, Any] = {f.name: f.metadata.get(_RULE) for f in dataclasses.fields(kind)}
    rule: Rule | None = found[name]
    if rule is None:
        raise KeyError(name)
    return rule
