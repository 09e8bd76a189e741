"""What the lamplighters stood, sat and held on when they were recorded, as boxes: metres, the figure facing +Z."""

from __future__ import annotations

from ..core.scene.props import Box

_RUNG, _DEPTH, _HALF = 0.28, 0.33, 0.21  # of the ladder: between rungs, from the figure, half its breadth


def _ladder():
    for side in (-_HALF, _HALF):
        yield Box((side, 1.9, _DEPTH), (0.05, 3.8, 0.05))
    for rung in range(1, 14):
        yield Box((0.0, rung * _RUNG - 0.02, _DEPTH), (2 * _HALF, 0.03, 0.03))


def _boat():
    yield Box((0.0, 0.34, -0.04), (1.0, 0.05, 0.3))  # the bench
    yield Box((0.0, 0.03, 0.68), (0.7, 0.05, 0.4))  # the board for the feet
    for side in (-0.55, 0.55):
        yield Box((side, 0.24, 0.2), (0.04, 0.42, 2.6))
    yield Box((0.0, 0.24, 1.5), (1.14, 0.42, 0.04))
    yield Box((0.0, 0.24, -1.1), (1.14, 0.42, 0.04))


def _sea_wall():
    yield Box((0.0, -0.2, 2.6), (0.5, 0.4, 7.0))


PROPS = {"climb_ladder": tuple(_ladder()), "row_boat": tuple(_boat()), "walk_the_wall": tuple(_sea_wall())}
