"""The parts of a body and the order of its limbs, once for all who need them."""

from __future__ import annotations

from itertools import pairwise

ARM = ("upper arm", "forearm", "hand")
LEG = ("thigh", "shin", "foot")
NEXT = dict(pair for limb in (ARM, LEG) for pair in pairwise(limb))  # from a limb's bone to where it ends
SIDES = ("left", "right")
PERSON, FOUR_LEGS = "person", "four legs"  # kinds of bodies
REQUIRED = ("hips", "spine", "head", *(f"{side} {part}" for side in SIDES for part in (*ARM, *LEG)))
