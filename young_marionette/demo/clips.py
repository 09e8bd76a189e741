"""The lamplighters' work, clip by clip: where feet and hands go, and when."""

from __future__ import annotations

import numpy as np

from .acting import Hand, Plan, free_hand
from .steps import Hold, foot_track
from .tracks import keyed


def _times(seconds, rate):
    return np.arange(round(seconds * rate) + 1) / rate


def _walk(
    times, build, step, width, start, count, stride_time, first="left", yaw=0.0, stance=0.62, lift=0.08, roll=1.0
):
    """Foot tracks of ``count`` steps straight on along +Z, from and to a stand with the feet side by side."""
    holds = {"left": [Hold(0, start, (width / 2, 0, 0), yaw)], "right": [Hold(0, start, (-width / 2, 0, 0), -yaw)]}
    side, z, moment = first, 0.0, start
    swing = stride_time * 2 * (1 - stance)
    for i in range(count):
        last = i == count - 1
        z += 0.0 if last else step
        sign = 1 if side == "left" else -1
        before = holds[side][-1]
        holds[side][-1] = Hold(before.start, moment, before.place, before.yaw)
        holds[side].append(Hold(moment + swing, times[-1] + 1, (sign * width / 2, 0, z), sign * yaw))
        moment += stride_time
        side = "right" if side == "left" else "left"
    return [foot_track(times, holds[s], build, lift, roll) for s in ("left", "right")]


def _swing(feet, times, amount):
    """Arm swing against the legs, from where the feet are."""
    ahead = feet[0].ankle[:, 2] - feet[1].ankle[:, 2]
    return -amount * ahead, amount * ahead


def _stand(times, build, width=0.24, yaw=0.18):
    return [foot_track(times, [Hold(0, times[-1] + 1, (s * width / 2, 0, 0), s * yaw)], build) for s in (1, -1)]


def walk_the_wall(build, rate):
    """Along the sea wall, foot before foot, arms out for balance, with one wobble."""
    t = _times(9.0, rate)
    feet = _walk(t, build, 0.36, 0.05, 0.7, 9, 0.78, yaw=0.06, stance=0.64, lift=0.07, roll=0.55)
    wobble = keyed(t, {0: 0, 3.9: 0, 4.25: 0.2, 4.6: -0.16, 5.0: 0.09, 5.4: -0.03, 5.9: 0, 9: 0})[:, 0]
    out = keyed(t, {0: 0.5, 0.8: 1.15, 7.6: 1.2, 8.8: 0.55})[:, 0]
    left = free_hand("left", t, 0.15 + 0.1 * np.sin(t * 1.3), out + 1.3 * wobble, 0.35, 0.12)
    right = free_hand("right", t, 0.15 - 0.1 * np.sin(t * 1.1), out - 1.3 * wobble, 0.35, 0.12)
    return Plan(
        t,
        *feet,
        left,
        right,
        11,
        sink=0.015,
        lean=wobble * 0.8,
        bow=0.06 + 0.05 * np.abs(wobble) * 8,
        nod=keyed(t, {0: 0.1, 1: 0.42, 7.5: 0.4, 8.8: 0})[:, 0],
        sway=0.85,
    )


def light_lamp(build, rate):
    """Up to the lamp, reach high with the pole, tilt, a step back, and a look at the light."""
    t = _times(8.0, rate)
    feet = [
        foot_track(
            t,
            [
                Hold(0, 0.5, (0.1, 0, 0), 0.1),
                Hold(0.95, 5.0, (0.1, 0, 0.34), 0.1),
                Hold(5.5, 9, (0.12, 0, -0.02), 0.16),
            ],
            build,
            0.07,
            0.7,
        ),
        foot_track(
            t,
            [
                Hold(0, 1.1, (-0.1, 0, 0), -0.1),
                Hold(1.55, 5.7, (-0.14, 0, 0.2), -0.25),
                Hold(6.2, 9, (-0.12, 0, -0.06), -0.2),
            ],
            build,
            0.06,
            0.6,
        ),
    ]
    pole = keyed(
        t,
        {
            0: (-0.22, 1.05, 0.22),
            1.2: (-0.2, 1.15, 0.5),
            2.1: (-0.1, 1.93, 0.62),
            2.7: (-0.08, 2.0, 0.66),
            3.2: (-0.05, 1.98, 0.64),
            3.6: (-0.1, 2.01, 0.68),
            4.3: (-0.09, 1.99, 0.66),
            5.2: (-0.2, 1.35, 0.45),
            6.4: (-0.28, 1.0, 0.1),
            8: (-0.28, 1.0, 0.1),
        },
    )
    under = pole + keyed(
        t,
        {
            0: (0.24, -0.12, 0.12),
            1.9: (0.05, -0.34, -0.04),
            4.5: (0.05, -0.34, -0.04),
            6.2: (0.3, 0.1, 0.16),
            8: (0.3, 0.12, 0.16),
        },
    )
    reach = keyed(t, {0: 0, 1.5: 0, 2.4: 1, 4.4: 1, 5.4: 0, 8: 0})[:, 0]
    tilt = keyed(t, {0: 0, 2.8: 0, 3.2: 0.14, 3.8: -0.06, 4.3: 0.08, 5: 0, 6.6: 0, 7.3: 0.12, 8: 0.12})[:, 0]
    return Plan(
        t,
        *feet,
        Hand(under, (0.9, -0.5, 0.1)),
        Hand(pole, (0.8, -0.6, -0.1)),
        12,
        bow=-0.1 * reach + keyed(t, {0: 0.05, 1.3: 0.1, 2.2: 0, 8: 0.0})[:, 0],
        twist=0.2 * reach,
        lean=tilt * 0.4,
        look_up=keyed(t, {0: 0.1, 1.2: 0.3, 2.3: 0.62, 4.6: 0.6, 5.4: 0.25, 6.6: 0.5, 8: 0.48})[:, 0],
        sway=0.8,
    )


def sweep_quay(build, rate):
    """Sweeping the quay with a long broom: weight from foot to foot, a small step between the strokes."""
    t = _times(8.0, rate)
    stroke = keyed(t, {0: 0, 0.7: -1, 1.5: 1, 2.3: -1, 3.1: 1, 4.1: -1, 4.9: 1, 5.7: -1, 6.5: 1, 7.4: -0.2, 8: 0})[:, 0]
    feet = [
        foot_track(t, [Hold(0, 3.2, (0.19, 0, 0.08), 0.3), Hold(3.65, 9, (0.19, 0, 0.34), 0.3)], build, 0.05, 0.5),
        foot_track(t, [Hold(0, 3.9, (-0.19, 0, -0.08), -0.2), Hold(4.4, 9, (-0.19, 0, 0.16), -0.2)], build, 0.05, 0.5),
    ]
    ahead = feet[0].ankle[:, 2:3] * 0.5 + feet[1].ankle[:, 2:3] * 0.5
    side = np.stack([stroke, 0 * stroke, 0 * stroke], -1)
    low = np.array([-0.02, 0.82, 0.42]) + 0.2 * side + np.stack([0 * stroke, 0.05 * np.abs(stroke), -0.1 * stroke], -1)
    high = np.array([0.1, 1.16, 0.3]) - 0.06 * side
    travel = np.concatenate([0 * ahead, 0 * ahead, ahead], -1)
    return Plan(
        t,
        *feet,
        Hand(high + travel, (1.0, -0.2, -0.3)),
        Hand(low + travel, (0.7, -0.4, -0.7)),
        13,
        sink=0.05,
        shift=np.stack([0.07 * stroke, 0 * stroke, 0 * stroke], -1),
        bow=0.3 + 0.05 * stroke,
        twist=0.3 * stroke - 0.1,
        lean=-0.05 * stroke,
        nod=np.full(len(t), 0.28),
        look_left=-0.1 + 0.15 * stroke,
        curl=0.75,
    )


def haul_rope(build, rate):
    """Hauling a boat in, hand over hand, with the whole weight behind it."""
    t = _times(7.5, rate)
    feet = [
        foot_track(t, [Hold(0, 9, (0.13, 0, 0.34), 0.05)], build),
        foot_track(t, [Hold(0, 3.6, (-0.14, 0, -0.22), -0.5), Hold(4.0, 9, (-0.15, 0, -0.3), -0.5)], build, 0.05, 0.4),
    ]
    pulls = (0.4, 1.5, 2.6, 3.9, 5.0, 6.1)
    keys = [{0: (0.08, 1.08, 0.62)}, {0: (-0.04, 1.02, 0.36)}]
    for i, start in enumerate(pulls):
        busy, other = keys[i % 2], keys[1 - i % 2]
        sign = 1 if i % 2 == 0 else -1
        busy[start + 0.15] = (0.05 * sign, 1.12, 0.68)
        busy[start + 0.95] = (0.14 * sign, 0.98, 0.12)
        other[start + 0.2] = (-0.13 * sign, 0.98, 0.14)
        other[start + 0.65] = (-0.08 * sign, 1.2, 0.45)
        other[start + 1.0] = (-0.05 * sign, 1.13, 0.67)
    pull = keyed(t, {0: 0, **{s + 0.15: 0.1 for s in pulls}, **{s + 0.75: 1 for s in pulls}, 7.5: 0.1})[:, 0]
    turnabout = keyed(t, {0: 0, **{s + 0.8: (0.9 if i % 2 == 0 else -0.9) for i, s in enumerate(pulls)}, 7.5: 0})[:, 0]
    back = np.stack([0 * pull, 0 * pull, -0.2 * pull], -1)
    return Plan(
        t,
        *feet,
        Hand(keyed(t, keys[0]) + 0.3 * back, (0.7, -0.8, -0.5)),
        Hand(keyed(t, keys[1]) + 0.3 * back, (0.7, -0.8, -0.5)),
        14,
        sink=0.08 + 0.06 * pull,
        shift=back + np.array([0, 0, 0.02]),
        bow=0.22 - 0.36 * pull,
        twist=0.3 * turnabout,
        pelvis=0.05 - 0.08 * pull,
        nod=np.full(len(t), -0.02),
        sway=0.3,
        curl=1.0,
    )


def carry_bucket(build, rate):
    """A full bucket on the right: leaning away from it, short quick steps, the free arm out."""
    t = _times(6.5, rate)
    feet = _walk(t, build, 0.46, 0.17, 0.6, 9, 0.56, yaw=0.12, stance=0.63, lift=0.06, roll=0.8)
    swing, _ = _swing(feet, t, 0.7)
    left = free_hand("left", t, swing * 0.8 + 0.1, 0.62 + 0.1 * np.sin(t * 5.6), 0.5, 0.08)
    right = free_hand("right", t, 0.04 + 0.06 * np.sin(t * 5.6 + 1), 0.1, 0.06, 0.14)
    return Plan(
        t,
        *feet,
        left,
        right,
        15,
        sink=0.03,
        lean=np.full(len(t), -0.17),
        bow=0.1,
        shift=np.array([0.03, 0, 0]),
        nod=np.full(len(t), 0.06),
        sway=0.55,
        curl=1.0,
    )


def ring_bell(build, rate):
    """The harbour bell: both hands on the rope, down with the whole body, and up with it again."""
    t = _times(7.0, rate)
    feet = _stand(t, build, 0.3, 0.22)
    keys = {0: 0.0, 0.6: 0.15}
    for i in range(4):
        start = 0.9 + i * 1.45
        keys[start], keys[start + 0.55], keys[start + 1.05] = -0.05, 1.0, 0.25
    pull = keyed(t, {**keys, 7: 0.1})[:, 0]
    rope = np.stack([0 * pull, 1.86 - 0.86 * pull, 0.3 + 0.06 * np.sin(np.pi * np.clip(pull, 0, 1))], -1)
    return Plan(
        t,
        *feet,
        Hand(rope + [0.02, 0.1, 0], (0.9, -0.3, 0.2)),
        Hand(rope - [0.02, 0.06, 0], (0.9, -0.3, 0.2)),
        16,
        sink=0.012 + 0.13 * np.clip(pull, 0, 1),
        bow=-0.08 + 0.42 * np.clip(pull, 0, 1),
        shift=np.stack([0 * pull, 0 * pull, -0.05 * pull], -1),
        look_up=0.45 - 0.4 * pull,
        curl=1.1,
    )


def wave_to_ship(build, rate):
    """A ship comes in: the weight shifts, a hand shades the eyes, and then a wide wave."""
    t = _times(7.0, rate)
    feet = [
        foot_track(t, [Hold(0, 1.4, (0.11, 0, 0), 0.15), Hold(1.85, 9, (0.17, 0, 0.1), 0.3)], build, 0.05, 0.4),
        foot_track(t, [Hold(0, 9, (-0.11, 0, 0), -0.2)], build),
    ]
    beat = keyed(t, {0: 0, 2.9: 0, 3.25: 1, 3.6: -1, 3.95: 1, 4.3: -1, 4.65: 1, 5.0: -0.9, 5.4: 0.3, 5.9: 0, 7: 0})[
        :, 0
    ]
    up = keyed(
        t,
        {
            0: (-0.3, 0.86, 0.06),
            0.5: (-0.3, 0.86, 0.06),
            0.92: (-0.34, 1.24, 0.44),
            1.3: (-0.12, 1.68, 0.22),
            2.3: (-0.12, 1.69, 0.22),
            2.9: (-0.4, 1.8, 0.16),
            5.2: (-0.38, 1.8, 0.16),
            5.75: (-0.46, 1.34, 0.34),
            6.3: (-0.3, 0.9, 0.1),
            7: (-0.29, 0.86, 0.06),
        },
    )
    wave = up + np.stack([0.17 * beat, -0.04 * beat**2, 0 * beat], -1)
    left = free_hand("left", t, 0.08 + 0.05 * np.sin(t), 0.16, 0.25)
    return Plan(
        t,
        *feet,
        left,
        Hand(wave, (0.7, -0.5, -0.6)),
        17,
        sink=0.01,
        shift=np.stack(
            [keyed(t, {0: 0.04, 1.2: -0.06, 2.2: 0.03, 5: 0.02, 6.4: -0.03, 7: -0.03})[:, 0], 0 * t, 0.02 + 0 * t], -1
        ),
        lean=0.05 * beat,
        twist=keyed(t, {0: 0, 1.4: 0.15, 5.4: 0.1, 7: 0})[:, 0],
        look_left=keyed(t, {0: 0, 1.2: 0.3, 2.5: 0.15, 5: 0.2, 7: 0.1})[:, 0],
        look_up=0.08 + 0.05 * np.abs(beat),
    )


def row_boat(build, rate):
    """Rowing, seated: legs push, back follows, arms last; the boat itself stays out of the picture."""
    t = _times(8.0, rate)
    keys = {0: 0.3}
    for i in range(4):
        start = 0.2 + i * 1.9
        keys[start], keys[start + 0.85], keys[start + 1.0] = 0.0, 1.0, 0.98
    stroke = keyed(t, {**keys, 8: 0.2})[:, 0]
    lift = keyed(
        t,
        {
            0: 0,
            **{0.2 + i * 1.9 + s: v for i in range(4) for s, v in ((0.05, 0.0), (0.8, 0.0), (1.15, 1.0), (1.6, 0.9))},
            8: 0.5,
        },
    )[:, 0]
    feet = [foot_track(t, [Hold(0, 9, (s * 0.12, 0.06, 0.62), s * 0.1)], build) for s in (1, -1)]
    hands = np.stack([0 * t, 0.72 + 0.1 * lift, 0.62 - 0.44 * stroke], -1)
    hips = np.stack([0 * t, 0.45 + 0.01 * np.sin(t), 0.02 - 0.07 * stroke], -1)
    return Plan(
        t,
        *feet,
        Hand(hands + [0.16, 0, 0], (0.8, -0.5, -0.6)),
        Hand(hands - [0.16, 0, 0], (0.8, -0.5, -0.6)),
        18,
        hips=hips,
        bow=0.42 - 0.72 * stroke,
        pelvis=0.1 - 0.2 * stroke,
        nod=-0.2 + 0.25 * stroke,
        curl=1.0,
    )


def climb_ladder(build, rate):
    """Up the lamp-post ladder, rung by rung: opposite hand and foot, the hips close to the rails."""
    t = _times(8.0, rate)
    rung, z, moves = (
        0.28,
        0.26,
        ((0.6, "left"), (1.7, "right"), (2.8, "left"), (3.9, "right"), (5.0, "left"), (6.1, "right")),
    )
    holds = {s: [Hold(0, 0, (x, 0, 0.0), 0)] for s, x in (("left", 0.1), ("right", -0.1))}
    hands = {s: {0: (x, 1.4, z + 0.12)} for s, x in (("left", 0.14), ("right", -0.14))}
    level = {"left": 0, "right": 0}
    for start, side in moves:
        level[side] = max(level.values()) + 1
        sign = 1 if side == "left" else -1
        before = holds[side][-1]
        holds[side][-1] = Hold(before.start, start, before.place)
        holds[side].append(Hold(start + 0.65, 9, (sign * 0.1, rung * level[side], z - 0.1)))
        other = "right" if side == "left" else "left"
        x, height, _ = list(hands[other].values())[-1]
        hands[other][start + 0.1] = (x, height, z + 0.12)
        hands[other][start + 0.45] = (x, height + rung, z + 0.04)
        hands[other][start + 0.75] = (x, height + 2 * rung if len(hands[other]) > 3 else height + rung, z + 0.12)
    for side in holds:
        last = holds[side][-1]
        holds[side][-1] = Hold(last.start, 10, last.place)
    feet = [foot_track(t, holds[s], build, 0.1, 0.15) for s in ("left", "right")]
    pull = keyed(t, {0: 0, **{s + d: v for s, _ in moves for d, v in ((0, 0.0), (0.5, 1.0), (0.9, 0.2))}, 8: 0})[:, 0]
    turnabout = np.where([int((x - 0.6) // 1.1) % 2 == 0 for x in t], 1, -1) * pull
    return Plan(
        t,
        *feet,
        Hand(keyed(t, hands["left"]), (0.9, -0.7, -0.2)),
        Hand(keyed(t, hands["right"]), (0.9, -0.7, -0.2)),
        19,
        sink=0.05 + 0.03 * pull,
        shift=np.array([0, 0, -0.04]),
        bow=0.1,
        lean=0.06 * turnabout,
        look_up=np.full(len(t), 0.3),
        sway=0.7,
        curl=1.1,
    )


CLIPS = {
    f.__name__: f
    for f in (
        walk_the_wall,
        climb_ladder,
        light_lamp,
        sweep_quay,
        haul_rope,
        carry_bucket,
        ring_bell,
        row_boat,
        wave_to_ship,
    )
}
