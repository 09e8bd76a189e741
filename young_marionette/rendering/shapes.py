"""The profiles of the stage's spindles."""

from __future__ import annotations

import numpy as np

# Radius along the length, as a turner would cut it: the marionette's limbs are balusters with beads,
# the performer's are plain slender spindles, so that shape alone tells the two apart.
BALUSTER = (
    (0.0, 0.10),
    (0.03, 0.5),
    (0.07, 0.62),
    (0.11, 0.5),
    (0.14, 0.72),
    (0.24, 1.0),
    (0.38, 0.92),
    (0.6, 0.66),
    (0.8, 0.52),
    (0.88, 0.5),
    (0.91, 0.66),
    (0.95, 0.62),
    (0.98, 0.42),
    (1.0, 0.10),
)
SPINDLE = ((0.0, 0.05), (0.02, 0.28), (0.3, 0.62), (0.5, 0.66), (0.7, 0.58), (0.98, 0.26), (1.0, 0.05))
EGG = ((0.0, 0.28), (0.06, 0.5), (0.2, 0.82), (0.42, 1.0), (0.66, 0.98), (0.84, 0.76), (0.95, 0.42), (1.0, 0.04))
# What a shadow needs of a limb.
PLAIN = ((0.0, 0.35), (0.25, 0.85), (0.7, 0.7), (1.0, 0.35))
BEAD = tuple((-np.cos(a), np.sin(a)) for a in np.linspace(0.02, np.pi - 0.02, 5))
BALL = tuple((-np.cos(a), np.sin(a)) for a in np.linspace(0.02, np.pi - 0.02, 8))
