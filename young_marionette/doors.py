"""The door of the functions for pipelines: what can't be used is one InputError, whatever it is, and defects are logged."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from typing import ParamSpec, TypeVar

from .core.errors import Cancelled, InputError

P = ParamSpec("P")
R = TypeVar("R")


def door(function: Callable[P, R]) -> Callable[P, R]:
    """A public function: arguments that it does not have, and whatever ends it beside InputError, Cancelled and what stops a
    program, become an InputError whose cause is the error itself.
    """
    signature = inspect.signature(function)

    @functools.wraps(function)
    def entered(*arguments: P.args, **named: P.kwargs) -> R:
        unknown = [name for name in named if name not in signature.parameters]
        if unknown:
            raise InputError(f"'{unknown[0]}' is no setting of {function.__name__}.")
        try:
            signature.bind(*arguments, **named)
        except TypeError as error:
            raise InputError(f"{function.__name__}: {error}.") from None
        try:
            return function(*arguments, **named)
        except (InputError, Cancelled):
            raise
        except MemoryError:
            raise InputError(f"There is not enough memory to {function.__name__} this.") from None
        except Exception as error:
            from .project.log import log_defect

            log_defect(f"in api.{function.__name__}", error)
            raise InputError(f"{function.__name__} failed: {type(error).__name__}: {error}.") from error

    return entered


def need(value: object, kind: type | tuple[type, ...], name: str, what: str) -> None:
    """InputError where an argument is not of its kind. ``what``: what belongs there, such as ``"an entry that read gave"``."""
    if not isinstance(value, kind):
        raise InputError(f"{name} has to be {what}, not {type(value).__name__}.")
