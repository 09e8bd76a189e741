"""The order of a body's limbs, once for all who need it."""

from __future__ import annotations

from itertools import pairwise

ARM = ("upper arm", "forearm", "hand")
LEG = ("thigh", "shin", "foot")
NEXT = dict(pair for limb in (ARM, LEG) for pair in pairwise(limb))  # from a limb's bone to where it ends
