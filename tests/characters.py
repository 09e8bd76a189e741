"""Characters as they come: bodies of any proportions with everything that rigs carry beside the body.

Built apart from the show's figures, on purpose: nothing here knows how a body is read. ``character`` draws one;
``parts`` tells which joints are which part of the body, ``kinds`` what every other joint is.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.skeleton import Skeleton

SIDES = (("left", 1.0), ("right", -1.0))
MUST = (
    "hips",
    "spine",
    "head",
    *(f"{s} {p}" for s, _ in SIDES for p in ("upper arm", "forearm", "hand", "thigh", "shin", "foot")),
)
FINGERS = ("thumb", "index", "middle", "ring", "little")
DOWN, OUT, AHEAD = np.array([0, -1.0, 0]), np.array([1.0, 0, 0]), np.array([0, 0, 1.0])
_Y = rot.AXES["Y"]


@dataclass
class Character:
    """``parts``: part of the body to the names of its joints; ``kinds``: any joint's name to what it is."""

    skeleton: Skeleton
    parts: dict[str, tuple[str, ...]]
    kinds: dict[str, str]
    rest: str
    notes: list[str] = field(default_factory=list)
    turn: np.ndarray | None = None  # from the world it was made in


DOUBLED = ("hips", "spine", "neck", "head", "collarbone", "upper arm", "forearm", "hand", "thigh", "shin", "foot")


class _Maker:
    doubles = 0.0

    def __init__(self, rng):
        self.rng, self.points, self.parents, self.kinds, self.tips, self.notes = rng, [], [], [], [], []

    def add(self, kind, parent, point, tip=None):
        doubled = kind in DOUBLED or kind.partition(" ")[2] in DOUBLED
        if doubled and self.doubles and self.chance(self.doubles):
            parent = self._add(kind, parent, point)  # a joint that only holds the next one, at the same place
        return self._add(kind, parent, point, tip)

    def _add(self, kind, parent, point, tip=None):
        self.points.append(np.array(point, float))
        self.parents.append(-1 if parent is None else parent)
        self.kinds.append(kind)
        self.tips.append(np.full(3, np.nan) if tip is None else np.array(tip, float))
        return len(self.points) - 1

    def chain(self, kind, parent, start, steps):
        """Joints one below the other; returns their numbers."""
        made, point = [], np.array(start, float)
        for step in [np.zeros(3), *steps]:
            point = point + step
            parent = self.add(kind, parent, point)
            made.append(parent)
        return made

    def chance(self, share):
        return self.rng.random() < share

    def u(self, low, high, size=None):
        return self.rng.uniform(low, high, size)


def _side(m, p, side, sign, chest, hips, plan):
    """One arm and one leg, from the same plan on both sides."""
    flip = np.array([sign, 1, 1])
    uneven = lambda: m.rng.normal(size=3) * p["uneven"] * p["leg"]  # noqa: E731
    shoulder = np.array([p["shoulder"], p["shoulder height"], p["shoulder depth"]])
    at = chest
    if plan["collarbone"]:
        for share in np.linspace(0, 1, plan["collarbone"] + 1)[:-1]:
            start = np.array([p["collar"], p["shoulder height"] + p["collar up"], p["collar depth"]])
            at = m.add(f"{side} collarbone", at, (start + (shoulder - start) * share) * flip + uneven())
    elbow = shoulder + p["upper"] * np.array([np.cos(p["elbow"]), 0, -np.sin(p["elbow"])])
    wrist = elbow + p["fore"] * np.array([np.cos(p["elbow"]), 0, np.sin(p["elbow"])])
    tops = {"upper arm": shoulder, "forearm": elbow, "hand": wrist}
    at, joints = _limb(m, side, flip, at, tops, plan, uneven, ("arm rolls", "arm helpers"))
    hand, long = at, p["hand"]
    tip = wrist + long * OUT
    if plan["fingers"]:
        _fingers(m, p, side, flip, hand, wrist, plan)
    elif plan["hand end"] == "tip":
        m.tips[hand] = tip * flip - m.points[hand]
    elif plan["hand end"] == "odd":
        m.tips[hand] = m.rng.normal(size=3) * 0.02 * p["leg"]
    elif plan["hand end"] == "bone":
        m.add("end", hand, tip * flip)
    for n in range(plan["held"]):
        m.add("prop", hand, (wrist + (0.4 + 0.2 * n) * long * OUT - 0.03 * m.size * _Y) * flip)
    hip = np.array([p["hip"], p["hip height"], p["hip depth"]])
    knee = hip + p["thigh"] * np.array([p["splay"], -np.cos(p["knee"]), np.sin(p["knee"])])
    ankle = knee + p["shin"] * np.array([p["splay"], -np.cos(p["knee"]), -np.sin(p["knee"])])
    above = hips
    if plan["hip helper"]:
        above = m.add("hip helper", hips, (hip * np.array([0.3, 1, 1]) + 0.03 * m.size * _Y) * flip)
    tops = {"thigh": hip, "shin": knee, "foot": ankle}
    foot, legs = _limb(m, side, flip, above, tops, plan, uneven, ("leg rolls", "leg helpers"))
    ball = ankle + np.array([0, -0.75 * p["ankle"], 0.68 * p["foot"]])
    toe = ball + np.array([0, -0.2 * p["ankle"], 0.32 * p["foot"]])
    if plan["heel"] and (plan["toes"] or plan["foot end"] != "none"):
        m.add("heel", foot, (ankle + np.array([0, -0.9 * p["ankle"], -0.25 * p["foot"]])) * flip)
    if plan["toes"] == 0:
        if plan["foot end"] == "tip":
            m.tips[foot] = toe * flip - m.points[foot]
        elif plan["foot end"] == "bone":
            m.add("end", foot, toe * flip)
    elif plan["toes"] == 1:
        joint = m.add(f"{side} toes", foot, ball * flip + uneven())
        if plan["foot end"] == "tip":
            m.tips[joint] = toe * flip - m.points[joint]
        elif plan["foot end"] == "bone":
            m.add("end", joint, toe * flip)
    else:
        joint = m.add(f"{side} toes", foot, ball * flip)
        for n in range(plan["toes"]):
            way = np.array([(n - plan["toes"] / 2) * 0.12 * p["foot"], 0, 0])
            m.chain("toe", joint, (ball + way + 0.1 * p["foot"] * AHEAD) * flip, [0.12 * p["foot"] * AHEAD])
    return joints, legs, hand, foot


def _limb(m, side, flip, above, tops, plan, uneven, keys):
    at, joints = above, []
    items = [(part, a + uneven()) for part, a in tops.items()]
    for (part, a), (_, b) in pairwise(items):
        at = m.add(f"{side} {part}", at, a * flip)
        joints.append(at)
        top, rolls, helpers = at, plan[keys[0]], plan[keys[1]]
        for n in range(rolls):
            at = m.add(f"{side} {part} roll", at, (a + (b - a) * (n + 1) / (rolls + 1)) * flip)
        for n in range(helpers):
            share = n / max(helpers, 1) if plan["helpers at start"] else (n + 1) / (helpers + 1)
            m.add(f"{side} {part} twist", top, (a + (b - a) * share) * flip)
        if plan["correctives"]:
            m.add("corrective", top, (a + (b - a) * m.u(0, 0.3) + m.rng.normal(size=3) * 0.06 * m.size) * flip)
    part, a = items[-1]
    at = m.add(f"{side} {part}", at, a * flip)
    return at, [*joints, at]


def _fingers(m, p, side, flip, hand, wrist, plan):
    names = {5: FINGERS, 4: ("thumb", "index", "middle", "ring"), 3: ("thumb", "index", "middle")}[plan["fingers"]]
    long, palm = p["hand"], hand
    if plan["palm"]:
        palm = m.add("palm", hand, (wrist + 0.12 * long * OUT) * flip)
    for n, name in enumerate(names):
        if name == "thumb":
            place, aim = wrist + np.array([0.16, -0.05, 0.14]) * long, rot.normalise(np.array([0.7, -0.2, 0.65]))
            bones, of = (0.22, 0.17, 0.14), hand
        else:
            across = 0.17 - 0.37 * (n - 1) / max(len(names) - 2, 1)
            place = wrist + np.array([0.52 - abs(across) * 0.2, 0, across]) * long
            aim, of = rot.normalise(np.array([1, 0, 0.35 * across])), palm
            bones = np.array([0.24, 0.15, 0.11]) * (0.75 if name == "little" else 1)
            if plan["metacarpals"]:
                of = m.add("metacarpal", palm, (wrist + np.array([0.14, 0, across * 0.7]) * long) * flip)
        at, point = of, place
        for i, bone in enumerate(bones[: plan["knuckles"]]):
            at = m.add(f"{side} {name}", at, point * flip)
            point = point + aim * bone * long
            if i + 1 == plan["knuckles"]:
                if plan["finger ends"] == "tip":
                    m.tips[at] = (aim * bone * long) * flip
                elif plan["finger ends"] == "bone":
                    m.add("end", at, point * flip)


def _head(m, p, head, crown, extras):
    u, leg, size = m.u, p["leg"], m.size
    place = m.points[head]
    if extras and m.chance(0.5):
        for sign in (1, -1):
            m.add("eye", head, place + np.array([sign * 0.035 * size, 0.4 * (crown - place[1]), 0.08 * size]))
        if m.chance(0.6):
            jaw = m.add("jaw", head, place + np.array([0, 0.01, 0.03]) * size)
            m.chain(
                "face", jaw, place + np.array([0, -0.01, 0.05]) * size, [0.02 * size * AHEAD] * m.rng.integers(0, 3)
            )
    if extras and m.chance(0.35):
        at = head if m.chance(0.6) else m.add("face", head, place + 0.05 * size * _Y)
        for _ in range(m.rng.integers(4, 40)):
            m.add("face", at, place + np.array([u(-0.07, 0.07), u(0.0, 0.15), u(0.03, 0.11)]) * size)
    if extras and m.chance(0.45):
        for _ in range(m.rng.integers(1, 9)):
            start = np.array([u(-0.09, 0.09) * size, u(0.4, 1.0) * (crown - place[1]), u(-0.1, 0.02) * size]) + place
            _hanging(
                m, "hair", head, start, u(0.1, 0.9) * leg, np.array([u(-0.3, 0.3), -1, u(-0.4, 0)]), mirrored=False
            )
    if extras and m.chance(0.2):
        start = place + np.array([0.1 * size, 0.6 * (crown - place[1]), -0.03 * size])
        _hanging(m, "hair", head, start, u(0.2, 1.1) * leg, np.array([u(0, 0.6), -1, u(-0.3, 0)]), mirrored=True)
    if extras and m.chance(0.1):
        start = place + np.array([0.07 * size, 0.8 * (crown - place[1]), 0])
        _hanging(m, "ear", head, start, u(0.06, 0.3) * leg, np.array([u(0.2, 1), u(-1, 1), 0]), mirrored=True)


def _hanging(m, kind, parent, start, long, way, mirrored):
    """A chain of cloth or hair, or one on each side of the middle."""
    count = int(m.rng.integers(2, 7))
    ways = rot.normalise(way + m.rng.normal(size=(count - 1, 3)) * 0.12) * long / max(count - 1, 1)
    for sign in (1, -1) if mirrored else (1,):
        m.chain(kind, parent, start * [sign, 1, 1], [w * [sign, 1, 1] for w in ways])


def _trunk_extras(m, p, hips, spine, hands, feet, extras):
    u, leg, chest = m.u, p["leg"], spine[-1]
    at = m.points[hips]
    if m.chance(0.2 * extras):
        count = int(m.rng.integers(3, 11))
        way = rot.normalise(np.array([0, u(-1, 0.3), -1])) * u(0.3, 1.3) * leg / count
        m.chain("tail", hips, at + np.array([0, 0, -0.08]) * m.size, [way] * (count - 1))
    if m.chance(0.2 * extras):
        for angle in np.linspace(0, 2 * np.pi, int(m.rng.integers(4, 11)), endpoint=False) + m.u(0, 0.5):
            out = np.array([np.cos(angle), 0, np.sin(angle)])
            count = int(m.rng.integers(2, 5))
            m.chain(
                "cloth", hips, at + 0.12 * m.size * out, [(DOWN + 0.25 * out) * m.rng.uniform(0.2, 0.3) * leg] * count
            )
    if m.chance(0.15 * extras):
        for sign in (1, -1):
            _hanging(
                m,
                "cloth",
                hips,
                at + np.array([sign * 0.14, 0, 0.02]) * m.size,
                u(0.2, 0.8) * leg,
                DOWN + 0.1 * sign * OUT,
                False,
            )
    if m.chance(0.2 * extras):
        top = m.points[chest]
        count, drop = int(m.rng.integers(1, 5)), u(0.5, 1.4) * leg
        for n in range(count):
            side = (n - (count - 1) / 2) * 0.08 * m.size
            _hanging(
                m, "cape", chest, top + np.array([side, 0.1 * m.size, -0.12 * m.size]), drop, DOWN - 0.15 * AHEAD, False
            )
    if m.chance(0.1 * extras):
        for sign in (1, -1):
            flip = np.array([sign, 1, 1])
            bones = [np.array([0.25, 0.2, -0.1]), np.array([0.4, 0.05, -0.05]), np.array([0.4, -0.1, 0])]
            size = u(0.7, 1.8) * leg
            wing = m.chain(
                "wing",
                chest,
                (m.points[chest] + np.array([0.05, 0.05, -0.1]) * m.size) * flip,
                [b * size * flip for b in bones],
            )
            for joint in wing[1:]:
                m.chain("wing", joint, m.points[joint] + [0, -0.1 * size, -0.02], [0.2 * size * DOWN])
    if m.chance(0.12 * extras):
        for sign in (1, -1):
            m.add("corrective", chest, m.points[chest] + np.array([sign * 0.08, -0.05, 0.12]) * m.size)
    if m.chance(0.25 * extras):
        for joint in m.rng.choice([hips, chest, spine[0]], 2):
            m.add("prop", int(joint), m.points[joint] + m.rng.normal(size=3) * 0.15 * leg)
    if m.chance(0.15 * extras):
        for joint in hands:
            bow = m.add("prop", joint, m.points[joint] + 0.05 * leg * DOWN)
            m.add("prop", bow, m.points[bow] + u(0.2, 1.6) * leg * AHEAD)
    if m.chance(0.3 * extras):
        for joint in (hips, chest, *hands):
            m.add("socket", joint, m.points[joint])
    return m.chance(0.25 * extras)


_RESTS = ("T", "A", "hanging", "seated", "elbows bent")


def _posed(m, p, legs, arms, rest):
    """Turn limbs from the T-pose that they were made in."""
    angle = {"T": m.u(-8, 12), "A": m.u(30, 60), "seated": m.u(0, 80), "elbows bent": m.u(0, 70)}.get(rest, m.u(68, 88))
    for (_, sign), leg, arm in zip(SIDES, legs, arms):
        uneven = m.rng.normal() * p["uneven"] * 40
        _turn(m, arm[0], AHEAD, -sign * np.radians(angle + uneven))
        if rest == "elbows bent":
            _turn(m, arm[1], _Y, -sign * np.radians(m.u(20, 70)) if angle < 40 else 0.0)
        if rest == "seated":
            _turn(m, leg[0], OUT, -np.radians(m.u(70, 95)))
            _turn(m, leg[1], OUT, np.radians(m.u(70, 95)))


def _turn(m, top, axis, angle):
    below, turn = {top}, rot.from_axis_angle(axis, np.array(angle))
    for j, parent in enumerate(m.parents):
        if parent in below:
            below.add(j)
    pivot = m.points[top].copy()
    for j in below:
        m.points[j] = pivot + rot.rotate(turn, m.points[j] - pivot)
        m.tips[j] = rot.rotate(turn, m.tips[j])


def proportions(rng):
    """Lengths of a body in metres, from child to giant."""
    u = rng.uniform
    leg = u(0.45, 1.2) if rng.random() < 0.8 else u(0.25, 2.5)
    odd = 1.0 if rng.random() < 0.6 else 1.6  # how far from usual
    near = lambda value, spread: value * np.exp(rng.uniform(-spread, spread) * odd)  # noqa: E731
    arm, trunk = near(0.68, 0.22) * leg, near(0.64, 0.2) * leg
    ankle = near(0.09, 0.3) * leg
    half, split = near(0.505, 0.05), near(0.53, 0.06)
    hip_height = ankle + leg
    shoulder_height = hip_height + trunk
    head = shoulder_height + near(0.17, 0.3) * leg
    return {
        "leg": leg, "ankle": ankle, "hip height": hip_height, "hip": near(0.11, 0.3) * leg, "hip depth": u(-0.02, 0.02) * leg,
        "thigh": half * leg, "shin": (1 - half) * leg, "splay": u(-0.03, 0.08), "knee": np.radians(rng.choice([0, u(0, 2), u(2, 10)])),
        "foot": near(0.25, 0.25) * leg, "upper": split * arm, "fore": (1 - split) * arm, "hand": near(0.3, 0.25) * arm,
        "elbow": np.radians(rng.choice([0, u(0, 2), u(2, 14)])), "shoulder": near(0.24, 0.25) * leg,
        "shoulder height": shoulder_height, "shoulder depth": u(-0.05, 0.02) * leg, "collar": u(0.01, 0.08) * leg,
        "collar up": u(-0.05, 0.05) * leg, "collar depth": u(-0.03, 0.06) * leg, "trunk": trunk, "head height": head,
        "crown": head + near(0.26, 0.4) * leg, "uneven": rng.choice([0, u(0, 0.004), u(0, 0.015)]),
    }  # fmt: skip


def character(rng, words=None, extras=1.0, bare=False, performer=False, rest=None, doubles=0.0):
    """A Character at random. ``words``: see ``naming``; ``bare``: no fingers and hands without anything behind them;
    ``performer``: fifteen joints; ``extras``: how much it carries beside its body, from 0 to 1; ``doubles``: how
    often a joint has another at the same place above it."""
    m, p = _Maker(rng), proportions(rng)
    m.size = p["leg"] / 0.85
    m.doubles = doubles
    pick = rng.choice
    rest = rest or str(pick(_RESTS, p=[0.35, 0.3, 0.15, 0.08, 0.12]))
    count = {"spine": int(rng.integers(1, 7)), "neck": int(pick([0, 1, 2, 3], p=[0.15, 0.5, 0.25, 0.1]))}
    plan = {
        "collarbone": int(pick([0, 1, 2], p=[0.3, 0.62, 0.08])), "fingers": int(pick([0, 5, 4, 3], p=[0.3, 0.55, 0.08, 0.07])),
        "hand end": str(pick(["none", "tip", "odd", "bone"])), "foot end": str(pick(["none", "tip", "bone"])), "palm": m.chance(0.08),
        "metacarpals": m.chance(0.2), "knuckles": int(pick([3, 3, 3, 2, 1])), "finger ends": str(pick(["none", "tip", "bone"])),
        "toes": int(pick([0, 1, 3, 5], p=[0.2, 0.7, 0.05, 0.05])), "held": int(m.chance(0.15 * extras)),
        "arm rolls": int(pick([0, 1, 2], p=[0.7, 0.2, 0.1]) * (extras > 0)), "leg rolls": int(pick([0, 1, 2], p=[0.8, 0.15, 0.05]) * (extras > 0)),
        "arm helpers": int(pick([0, 1, 2, 3], p=[0.6, 0.2, 0.1, 0.1]) * (extras > 0)),
        "leg helpers": int(pick([0, 1, 2], p=[0.75, 0.15, 0.1]) * (extras > 0)), "helpers at start": m.chance(0.3),
        "correctives": m.chance(0.25 * extras), "hip helper": m.chance(0.06 * extras), "heel": m.chance(0.12 * extras),
    }  # fmt: skip
    if bare:
        plan |= {"fingers": 0, "held": 0, "hand end": str(pick(["none", "none", "odd"]))}
    if performer:
        count = {"spine": 1, "neck": 0}
        plan = dict.fromkeys(plan, 0) | {"hand end": plan["hand end"], "foot end": plan["foot end"]}
        if plan["hand end"] == "bone" or plan["foot end"] == "bone":
            plan |= {"hand end": "none", "foot end": "none"}
    top = None
    if not performer and m.chance(0.45):
        top = m.add("root", None, np.zeros(3))
        if m.chance(0.2):
            top = m.add("root", top, np.zeros(3))
    lean = m.u(-0.05, 0.05) * p["leg"]
    hips = m.add("hips", top, [0, p["hip height"] + m.u(-0.06, 0.14) * p["leg"], lean])
    legs_at, below = hips, hips
    if not performer and m.chance(0.12):
        legs_at = m.add("hips", hips, m.points[hips] + [0, m.u(-0.05, 0.0) * p["leg"], 0])
    start = max(m.points[hips][1], p["hip height"]) + m.u(0.03, 0.14) * p["leg"]
    chest_height = max(p["shoulder height"] - m.u(0.0, 0.22) * p["trunk"], start + 0.02 * p["leg"])
    shares = np.cumsum(np.append(0, m.u(0.6, 1.4, max(count["spine"] - 1, 1))))
    shares = shares / shares[-1] if count["spine"] > 1 else np.array([m.u(0.0, 1.0)])
    spine = []
    for share in shares[: count["spine"]]:
        below = m.add(
            "spine",
            below,
            [0, start + (chest_height - start) * share, -0.06 * p["leg"] * np.sin(np.pi * share) * m.u(0, 1)],
        )
        spine.append(below)
    neck_start = max(p["shoulder height"] + m.u(-0.02, 0.08) * p["leg"], m.points[spine[-1]][1] + 0.02 * p["leg"])
    head_height = max(p["head height"], neck_start + 0.05 * p["leg"])
    for n in range(count["neck"]):
        below = m.add(
            "neck", below, [0, neck_start + (head_height - neck_start) * n / count["neck"], m.u(-0.03, 0.02) * p["leg"]]
        )
    crown = max(p["crown"], head_height + 0.12 * p["leg"])
    head = m.add("head", below, [0, head_height, m.u(-0.02, 0.04) * p["leg"]])
    end = "none" if performer else str(pick(["none", "tip", "bone"]))
    if end == "tip":
        m.tips[head] = np.array([0, crown - head_height, 0])
    elif end == "bone":
        m.add("end", head, [0, crown, m.points[head][2]])
    made = [_side(m, p, side, sign, spine[-1], legs_at, plan) for side, sign in SIDES]
    _head(m, p, head, crown, extras if not performer else 0)
    goals = not performer and _trunk_extras(m, p, hips, spine, [s[2] for s in made], [s[3] for s in made], extras)
    _posed(m, p, [s[1] for s in made], [s[0] for s in made], rest)
    if goals:
        for joint in [j for s in made for j in (s[2], s[3])]:
            m.add("goal", top, m.points[joint] if m.chance(0.5) else m.points[joint] * [1, 0, 1])
        for s in made:
            m.add("goal", top, m.points[s[1][1]] + 0.5 * p["leg"] * AHEAD)
    if not performer and m.chance(0.1 * extras):
        m.add("second root", None, m.rng.normal(size=3))
    return _finish(m, p, rest, words, plan)


def creature(rng, words=None):
    """A Character at random that stands on four legs: its forelegs are its arms, as ``humanoid.reading`` has it."""
    m, u = _Maker(rng), rng.uniform
    tall, long, wide = u(0.3, 1.1), u(0.8, 1.6), u(0.1, 0.22)
    top = m.add("root", None, np.zeros(3)) if m.chance(0.5) else None
    hips = m.add("hips", top, [0, tall * u(0.95, 1.1), -0.5 * tall * long])
    at, count, start = hips, int(rng.integers(2, 6)), m.points[hips].copy()
    steps = np.linspace(0, 1, count + 1)[1:]
    for share in steps:
        at = m.add("spine", at, start + share * np.array([0, u(-0.05, 0.08), long]) * tall)
    chest, neck = at, int(rng.integers(1, 4))
    way = rot.normalise(np.array([0, u(0.2, 1.2), 1])) * u(0.3, 0.7) * tall
    for n in range(neck):
        at = m.add("neck", at, m.points[chest] + way * (0.15 + n / neck))
    head = m.add("head", at, m.points[chest] + 1.15 * way)
    m.add("jaw", head, m.points[head] + np.array([0, -0.03, 0.12]) * tall)
    for sign in (1, -1) if m.chance(0.6) else ():
        m.chain("ear", head, m.points[head] + np.array([sign * 0.05, 0.08, 0]) * tall, [0.06 * tall * _Y])
    if m.chance(0.8):
        m.chain("tail", hips, start + [0, 0, -0.1 * tall], [[0, -0.04 * tall, -0.1 * tall]] * int(rng.integers(1, 9)))
    paws, shoulder = m.chance(0.7), m.chance(0.6)
    half, knee = u(0.42, 0.5), u(0.05, 0.25)
    for side, sign in SIDES:
        for parts, base, places in (
            (("thigh", "shin", "foot"), hips, [(0, -0.08, 0), (0, -half, knee), (0, -0.86, -knee)]),
            (("upper arm", "forearm", "hand"), chest, [(0, -0.12, 0), (0, -0.5, -0.6 * knee), (0, -0.88, 0.1 * knee)]),
        ):
            above, origin = base, m.points[base] * [0, 1, 1]
            if base == chest and shoulder:
                above = m.add(f"{side} collarbone", base, origin + np.array([sign * 0.5 * wide, 0.05, -0.05]) * tall)
            for part, place in zip(parts, places):
                stands = np.array(
                    [sign * wide, place[1] * origin[1] / tall, place[2]]
                )  # on the floor, however high its base
                above = m.add(f"{side} {part}", above, origin + stands * tall)
            toe = m.points[above] * [1, 0, 1] + np.array([0, 0.02, 0.1]) * tall
            if paws:
                m.add("toe", above, toe)
            else:
                m.tips[above] = toe - m.points[above]
    return _finish(m, {"leg": tall}, "four legs", words, {"tall": tall})


def _finish(m, p, rest, words, plan):
    rng, count = m.rng, len(m.points)
    order = _shuffled(m.parents, rng)
    place = {old: new for new, old in enumerate(order)}
    turn = _world(rng)
    unit = 10 ** rng.uniform(-2, 2.3)
    points = rot.rotate(turn, np.array(m.points)[order]) * unit
    tips = rot.rotate(turn, np.array(m.tips)[order]) * unit
    parents = np.array([-1 if m.parents[o] < 0 else place[m.parents[o]] for o in order])
    world = np.tile(rot.IDENTITY, (count, 1))
    if rng.random() < 0.6:
        world = rot.normalise(rng.normal(size=(count, 4)))
    above = np.where((parents >= 0)[:, None], world[parents], rot.IDENTITY)
    offsets = rot.rotate(rot.conjugate(above), points - np.where((parents >= 0)[:, None], points[parents], 0))
    kinds = [m.kinds[o] for o in order]
    names = (words or useless)(kinds, rng)
    skeleton = Skeleton(
        tuple(names),
        parents,
        offsets,
        rot.multiply(rot.conjugate(above), world),
        rot.rotate(rot.conjugate(world), tips),
    )
    parts = {}
    for kind, name in zip(kinds, names):
        parts.setdefault(kind, []).append(name)
    return Character(
        skeleton, {k: tuple(v) for k, v in parts.items()}, dict(zip(names, kinds)), rest, [str(plan)], turn
    )


def _world(rng):
    ups = {
        "Y": rot.IDENTITY,
        "Z": rot.from_axis_angle(OUT, np.array(np.pi / 2)),
        "X": rot.from_axis_angle(AHEAD, np.array(-np.pi / 2)),
    }
    up = ups[str(rng.choice(list(ups), p=[0.5, 0.4, 0.1]))]
    angle = rng.choice([0, np.pi / 2, np.pi, -np.pi / 2, rng.uniform(-np.pi, np.pi)])
    return rot.multiply(up, rot.from_axis_angle(_Y, np.array(angle)))


def _shuffled(parents, rng):
    """Joint numbers with parents first, brothers in any order, sometimes breadth first."""
    children = {}
    for j, parent in enumerate(parents):
        children.setdefault(parent, []).append(j)
    mix, broad, order, waiting = rng.random() < 0.5, rng.random() < 0.3, [], [-1]
    while waiting:
        at = waiting.pop(0 if broad else -1)
        if at >= 0:
            order.append(at)
        below = children.get(at, [])
        waiting.extend(rng.permutation(below).tolist() if mix else below[::-1])
    return order


def motion(made, rng, frames=40):
    """A walk of sorts on a Character, as a Clip: knees and elbows bend one way, roll bones roll, hair sways."""
    skeleton, wave = made.skeleton, np.sin(np.linspace(0, 4 * np.pi, frames))
    world, points = skeleton.rest_world[1], skeleton.rest_world[0]
    out, ahead, up = (rot.rotate(made.turn, v) for v in (OUT, AHEAD, _Y))
    turns = np.tile(skeleton.rest, (frames, 1, 1))
    for j, name in enumerate(skeleton.names):
        kind, below = made.kinds[name], skeleton.children[j]
        side = -1 if kind.startswith("right") else 1
        bone = rot.normalise(points[below[0]] - points[j]) if below and np.any(points[below[0]] != points[j]) else up
        part = kind.removeprefix("left ").removeprefix("right ")
        axis, angles = {
            "thigh": (out, -0.2 + 0.45 * side * wave),
            "shin": (out, 0.5 + 0.45 * side * wave),
            "foot": (out, 0.15 * wave),
            "upper arm": (out, -0.3 * side * wave),
            "forearm": (np.cross(bone, ahead), 0.5 + 0.3 * side * wave),
            "spine": (up, 0.06 * wave),
            "head": (up, 0.1 * np.roll(wave, 4)),
            "hair": (out, 0.1 * np.roll(wave, 6)),
            "cloth": (out, 0.15 * np.roll(wave, 5)),
            "tail": (up, 0.15 * np.roll(wave, 6)),
        }.get(part, (bone, 0.2 * wave if part.endswith(("roll", "twist")) else 0 * wave))
        axis = rot.rotate(rot.conjugate(world[j]), rot.normalise(axis))
        turns[:, j] = rot.multiply(skeleton.rest[j], rot.from_axis_angle(axis, angles))
    hips = skeleton.index[made.parts["hips"][0]]
    tall = np.linalg.norm(points[skeleton.index[made.parts["head"][0]]] - points[hips])
    way = rot.rotate(rot.conjugate(world[skeleton.parents[hips]]), ahead) if skeleton.parents[hips] >= 0 else ahead
    places = skeleton.offsets[hips] + np.linspace(0, tall * rng.uniform(0, 3), frames)[:, None, None] * way
    return Clip("walk", skeleton, 30.0, turns, [hips], places)


def useless(kinds, rng):
    """``joint017`` and the like, in the order of the file or in none."""
    stem = str(rng.choice(["joint", "Bone.", "node_", "j", "b_"]))
    numbers = rng.permutation(len(kinds)) if rng.random() < 0.5 else np.arange(len(kinds))
    return [f"{stem}{n:03d}" for n in numbers]
