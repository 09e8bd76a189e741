"""What thinning is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from ..errors import InputError
from ..settings import check, number, parts
from .tolerances import Emphasis, Tolerances

CONTACTS, KEYS, JOINTS = STAGES = ("contacts", "keys", "joints")


@dataclass(frozen=True)
class Thin:
    """Few poses in place of a key on every frame.

    ``places`` (metres), ``degrees``, ``planted`` (metres; None: no other than ``places``) and ``weights``: how far the result
    may be from the dense motion (see tolerances.Tolerances). ``stages``: keys where contacts change; further keys, as
    many as the promise needs; which joints are held at each key. ``emphases``: other tolerances. ``forced``: frames that are
    keys; ``barred``: stretches with none, unless the promise needs them.
    """

    places: float = number(0.01, above=0.0, most=100.0)
    degrees: float = number(5.0, above=0.0, most=360.0)
    planted: float | None = number(0.003, above=0.0, most=100.0, none=True)
    weights: float = number(0.02, above=0.0, most=100.0)
    stages: tuple[str, ...] = parts(STAGES, STAGES)
    emphases: tuple[Emphasis, ...] = ()
    forced: tuple[int, ...] = ()
    barred: tuple[tuple[int, int], ...] = ()

    code: ClassVar[str] = "thin"
    halo: ClassVar[float] = np.inf  # where keys fit best depends on all of the clip

    def __post_init__(self) -> None:
        check(self)

    @property
    def tolerances(self) -> Tolerances:
        planted = np.inf if self.planted is None else self.planted
        return Tolerances(self.places, float(np.radians(self.degrees)), planted, self.weights)

    def check(self) -> None:
        """InputError for what can't be thinned by."""
        if not self.stages:
            raise InputError("Choose at least one stage of thinning.")
        if any(not 0 < e.factor < 1e6 for e in self.emphases):
            raise InputError("A tolerance has to be above zero.")

    @property
    def promises(self) -> bool:
        """Whether as many keys are set as the tolerances ask for."""
        return KEYS in self.stages or JOINTS in self.stages
