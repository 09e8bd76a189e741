"""The filters that there are: each is a value that says what to do, and does it to rows of values.

``run(rows, rate, measures)`` takes ``rows (channels, n, frames)`` and gives as many. ``measure(rows, rate)`` tells what of
it depends on the whole curve ``(channels,)``, or None, so that a part of a clip is filtered as the whole one is.
``halo``: seconds that a frame of the result looks at on each side. ``code``: by which it is known in files.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from ..settings import check, choice, flag, number
from . import adaptive, windows
from .lowpass import butterworth, suggestions
from .noise import steady
from .spikes import LONGEST, THRESHOLD, WINDOW, usual_of

AUTO = "auto"
_SLOWEST = 0.7  # hertz: no lower cut-off is suggested
_LONG = 60.0  # seconds


@dataclass(frozen=True)
class Spikes:
    """Spikes taken out (see spikes). ``window``: seconds; ``longest``: frames. ``kept``: found ones that are none, as
    pairs of a joint's or a morph's name and a frame.
    """

    threshold: float = number(THRESHOLD, least=0.1, most=100.0)
    window: float = number(WINDOW, above=0.0, most=10.0)
    longest: int = number(LONGEST, least=1, most=100, whole=True)
    kept: tuple[tuple[str, int], ...] = ()

    code: ClassVar[str] = "spikes"

    def __post_init__(self) -> None:
        check(self)

    @property
    def halo(self) -> float:
        return 2 * self.window + 0.6

    def measure(self, rows: np.ndarray, _rate: float) -> np.ndarray:
        return usual_of(rows)


class _Smooth:
    """What smoothers have in common: nothing to measure before."""

    def __post_init__(self) -> None:
        check(self)

    def measure(self, rows: np.ndarray, rate: float) -> np.ndarray | None:
        return None


@dataclass(frozen=True)
class LowPass(_Smooth):
    """Butterworth's filter (see lowpass). ``cutoff``: hertz, or "auto" for what each channel asks for; ``order``: 2 or 4.

    ``parts``: cut-offs of single parts of the body in place of it, as pairs of a part's name and hertz.
    """

    cutoff: float | str = number(AUTO, above=0.0, most=1e6, words=(AUTO,))
    order: int = choice(2, (2, 4))
    seamless: bool = flag(False)
    parts: tuple[tuple[str, float], ...] = ()

    code: ClassVar[str] = "low-pass"

    @property
    def halo(self) -> float:
        lowest = min([_SLOWEST if isinstance(self.cutoff, str) else self.cutoff, *(hertz for _, hertz in self.parts)])
        return min(2.0 / lowest, _LONG)

    def measure(self, rows: np.ndarray, rate: float) -> np.ndarray:
        if not isinstance(self.cutoff, str):
            return np.full(len(rows), float(self.cutoff))
        asked = suggestions(rows, rate, self.order).cutoffs
        return np.maximum(asked, _SLOWEST)

    def run(self, rows: np.ndarray, rate: float, measures: np.ndarray) -> np.ndarray:
        out = rows
        for cutoff in np.unique(measures[np.isfinite(measures)]):
            which = measures == cutoff
            if which.all():
                return butterworth(rows, rate, float(cutoff), self.order, self.seamless)
            out = rows.copy() if out is rows else out
            out[which] = butterworth(rows[which], rate, float(cutoff), self.order, self.seamless)
        return out


@dataclass(frozen=True)
class SavitzkyGolay(_Smooth):
    """See windows."""

    seconds: float = number(0.2, least=0.0, most=600.0)
    degree: int = number(3, least=1, most=9, whole=True)
    seamless: bool = flag(False)

    code: ClassVar[str] = "savitzky-golay"

    @property
    def halo(self) -> float:
        return self.seconds

    def run(self, rows: np.ndarray, rate: float, _measures: None) -> np.ndarray:
        return windows.savitzky_golay(rows, rate, self.seconds, self.degree, self.seamless)


@dataclass(frozen=True)
class _Window(_Smooth):
    """Those that only need to know how long their window is."""

    seconds: float = number(0.1, least=0.0, most=600.0)
    seamless: bool = flag(False)


@dataclass(frozen=True)
class Gaussian(_Window):
    """See windows."""

    code: ClassVar[str] = "gaussian"

    @property
    def halo(self) -> float:
        return 3 * self.seconds

    def run(self, rows: np.ndarray, rate: float, _measures: None) -> np.ndarray:
        return windows.gaussian(rows, rate, self.seconds, self.seamless)


@dataclass(frozen=True)
class Median(_Window):
    """See windows."""

    code: ClassVar[str] = "median"

    @property
    def halo(self) -> float:
        return self.seconds

    def run(self, rows: np.ndarray, rate: float, _measures: None) -> np.ndarray:
        return windows.median(rows, rate, self.seconds, self.seamless)


@dataclass(frozen=True)
class Adaptive(_Smooth):
    """Strong where a curve rests, weak where it moves quickly (see adaptive). ``strength``: 1 is what measures best."""

    strength: float = number(1.0, least=0.0, most=100.0)
    seamless: bool = flag(False)

    code: ClassVar[str] = "adaptive"
    halo: ClassVar[float] = adaptive.HALO

    def measure(self, rows: np.ndarray, _rate: float) -> np.ndarray:
        return steady(rows)

    def run(self, rows: np.ndarray, rate: float, measures: np.ndarray) -> np.ndarray:
        return adaptive.smoothed(rows, rate, measures, self.strength, self.seamless)


Smoother = LowPass | SavitzkyGolay | Gaussian | Median | Adaptive
Filter = Spikes | Smoother
FILTERS: dict[str, type[Filter]] = {f.code: f for f in (Spikes, LowPass, SavitzkyGolay, Gaussian, Median, Adaptive)}
