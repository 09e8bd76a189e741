"""Means and medians over what was seen (NaN is what was not); NaN, without a warning, where nothing was."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from typing import Any

import numpy as np


def _quiet(reduce: Callable[..., Any]) -> Callable[..., Any]:
    def reduced(values: np.ndarray, *more: Any, **named: Any) -> Any:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)
            return reduce(values, *more, **named)

    return reduced


mean, median = _quiet(np.nanmean), _quiet(np.nanmedian)
least, most = _quiet(np.nanmin), _quiet(np.nanmax)
percentile = _quiet(np.nanpercentile)
