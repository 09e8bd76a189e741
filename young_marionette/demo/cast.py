"""Who plays: two performers and three puppets, with the names that their makers gave the bones."""

from __future__ import annotations

from dataclasses import dataclass

from .dressing import rest_pose
from .figures import Build, make_figure

_LIMBS = ("collarbone", "upper arm", "forearm", "hand", "thigh", "shin", "foot", "toes")
_FINGERS = ("thumb", "index", "middle", "ring", "little")


def _both(pattern, words, sides=("left", "right")):
    return {
        f"{key} {part}": pattern.format(side=side, word=word)
        for key, side in zip(("left", "right"), sides)
        for part, word in zip(_LIMBS, words)
    }


def _quay_names():
    names = {
        "hips": "Pelvis",
        "spine 1": "Lumbar",
        "spine 2": "Thorax",
        "spine 3": "Breastbone",
        "neck 1": "Neck",
        "head": "Head",
        **_both(
            "{side}_{word}", ("Clavicle", "Humerus", "Radius", "Hand", "Femur", "Tibia", "Foot", "Toes"), ("L", "R")
        ),
    }
    return {k: "quay:" + v for k, v in names.items()}


def _loft_names():
    names = {
        "root": "ground",
        "hips": "hips",
        "head": "skull",
        **{f"spine {i}": f"vertebra_{i}" for i in range(1, 6)},
        **{f"neck {i}": f"neck_{i}" for i in (1, 2)},
        **_both(
            "{word}_{side}", ("collar", "arm_upper", "arm_lower", "wrist", "leg_upper", "leg_lower", "ankle", "ball")
        ),
    }
    for side in ("left", "right"):
        for finger, word in zip(_FINGERS, ("thumb", "pointer", "midfinger", "ringfinger", "pinky")):
            names.update({f"{side} {finger} {i}": f"{word}_{i}_{side}" for i in (1, 2, 3)})
    names.update({f"{s} ring {i}": f"ring_finger_{i}_{s}" for s in ("left", "right") for i in (1, 2, 3)})
    return names


def vrm_names():
    names = {"hips": "hips", "spine 1": "spine", "spine 2": "chest", "neck 1": "neck", "head": "head"}
    for side in ("left", "right"):
        names.update(
            {
                f"{side} {part}": side + word
                for part, word in zip(
                    _LIMBS, ("Shoulder", "UpperArm", "LowerArm", "Hand", "UpperLeg", "LowerLeg", "Foot", "Toes")
                )
            }
        )
    return names


def _puffin_names():
    return {
        "hips": "waist",
        "spine 1": "belly",
        "neck 1": "nape",
        "head": "big_head",
        **_both("{side} {word}", ("collar", "arm", "elbow", "palm", "leg", "knee", "ankle", "toe"), ("L", "R")),
    }


def _h_anim_names():
    names = {
        "root": "humanoid_root",
        "hips": "sacroiliac",
        "spine 1": "vl5",
        "spine 2": "vl1",
        "spine 3": "vt6",
        "neck 1": "vc4",
        "head": "skullbase",
    }
    words = (
        "sternoclavicular",
        "shoulder",
        "elbow",
        "radiocarpal",
        "hip",
        "knee",
        "talocrural",
        "metatarsophalangeal_2",
    )
    names.update(_both("{side}_{word}", words, ("l", "r")))
    for side, s in (("left", "l"), ("right", "r")):
        for part, word in (("upper arm", "shoulder"), ("forearm", "elbow"), ("thigh", "hip"), ("shin", "knee")):
            names[f"{side} {part} twist"] = f"{s}_{word}_twist"
        for number, finger in enumerate(_FINGERS, 1):
            joints = (
                ("carpometacarpal", "metacarpophalangeal", "interphalangeal")
                if number == 1
                else ("metacarpophalangeal", "interphalangeal_near", "interphalangeal_far")
            )
            names.update({f"{side} {finger} {i}": f"{s}_{word}_{number}" for i, word in enumerate(joints, 1)})
    return names


@dataclass(frozen=True, eq=False)
class Role:
    """A member of the cast: build, bone names, how the arms rest (radians below a T-pose), and the file's world."""

    name: str
    build: Build
    names: dict
    arms_down: float
    metres_per_unit: float
    z_up: bool
    rate: float

    @property
    def figure(self):
        """The skeleton in a T-pose, its joints named by body part."""
        return make_figure(self.build)

    def rest(self, figure):
        """Local rotations of the rest pose that the role's files use."""
        return rest_pose(figure, {"left upper arm": (0, 0, -self.arms_down), "right upper arm": (0, 0, self.arms_down)})


QUAY = Role("quay", Build(), _quay_names(), 1.42, 0.01, False, 30)
LOFT = Role(
    "loft",
    Build(height=1.69, leg=0.82, arm=0.53, shoulders=0.34, spine=5, neck=2, fingers=True, root=True),
    _loft_names(),
    0.0,
    1.0,
    True,
    24,
)
PERFORMERS = (QUAY, LOFT)
PUPPETS = (
    Role(
        "Heron",
        Build(height=1.98, leg=1.1, arm=0.66, shoulders=0.32, hips=0.16, head=0.2, foot=0.19, ankle=0.07, spine=2),
        vrm_names(),
        0.75,
        1.0,
        False,
        30,
    ),
    Role(
        "Puffin",
        Build(height=1.12, leg=0.4, arm=0.31, shoulders=0.34, hips=0.2, head=0.34, foot=0.13, ankle=0.06, spine=1),
        _puffin_names(),
        0.0,
        0.01,
        False,
        30,
    ),
    Role("Gull", Build(height=1.72, fingers=True, twist=True, root=True), _h_anim_names(), 0.0, 1.0, False, 30),
)
