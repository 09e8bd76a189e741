"""The path of a root bone over the floor, as lines to draw."""

from __future__ import annotations

import numpy as np

_TICK, _ARROW = 0.04, 0.22  # shares of the figure's height


def path_lines(places: np.ndarray, headings: np.ndarray, rate: float, frame: int, height: float) -> list[np.ndarray]:
    """Lines ``(n, 3)`` on the floor: the path, a tick across it at every second, and an arrow ahead at ``frame``.

    ``places (frames, 3)``: metres; ``headings (frames,)``: radians about the vertical; ``height`` of the figure.
    """
    floor = places * [1.0, 0.0, 1.0] + [0.0, 0.004, 0.0]
    lines = [floor] if np.ptp(floor, axis=0).max() > 1e-3 else []
    across = np.stack([np.cos(headings), np.zeros_like(headings), -np.sin(headings)], 1)
    for at in range(0, len(floor), max(round(rate), 1)):
        lines.append(floor[at] + np.array([[-1.0], [1.0]]) * across[at] * _TICK * height)
    at = min(max(frame, 0), len(floor) - 1)
    side, ahead = across[at], np.array([np.sin(headings[at]), 0.0, np.cos(headings[at])])
    tip = floor[at] + ahead * _ARROW * height
    wings = [tip - _TICK * 1.6 * height * (ahead + turn * 0.6 * side) for turn in (1, -1)]
    lines += [np.stack([floor[at], tip]), np.stack([wings[0], tip, wings[1]])]
    return lines
