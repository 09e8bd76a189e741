"""The forward pass, the transfer, and one change shown: 10,000 frames of 63 joints."""

from dataclasses import replace

import numpy as np

from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip, as_rows
from young_marionette.core.contacts.choices import ContactChoices
from young_marionette.core.contacts.finding import ContactSearch
from young_marionette.core.contacts.points import contact_points
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward, world_rotation_rows
from young_marionette.core.matching.stance import match
from young_marionette.core.matching.tying import tie
from young_marionette.core.transfer.planting import legs_of, plant
from young_marionette.core.transfer.retarget import Transfer
from young_marionette.demo import clips as acts
from young_marionette.demo.acting import perform
from young_marionette.demo.figures import Build, make_figure

from .measure import best, plain, row

FRAMES = 10_000


def clip():
    """A long clip on a skeleton with fingers, helpers and a root."""
    s = make_figure(Build(fingers=True, twist=True, root=True, spine=4, neck=2))
    rng = np.random.default_rng(0)
    return Clip(
        "long",
        s,
        120,
        rot.from_vector(rng.normal(size=(FRAMES, len(s), 3)) * 0.3),
        [1],
        rng.normal(size=(FRAMES, 1, 3)),
    )


def _pair(source):
    rig = make_figure(Build(height=1.95, leg=1.05, arm=0.66, fingers=True, twist=True, root=True))
    strings = tie(source.skeleton, read_body(source.skeleton), rig, read_body(rig))
    return rig, strings, match(strings, source.skeleton, rig)


def forward_pass():
    """Against a copy of the same numbers, which is what memory alone costs."""
    long = clip()
    took, copy = best(lambda: forward(long), lambda: long.rotations.copy(order="K"))
    yield row(
        "forward pass", took, copy, None, f"{FRAMES} frames, {len(long.skeleton)} joints; floor: copying the rotations"
    )


def transfer():
    """Against one forward pass."""
    long = clip()
    rig, strings, stance = _pair(long)
    made = Transfer(long.skeleton, rig, strings, stance)
    took, floor = best(lambda: made.run(long), lambda: forward(long))
    yield row("transfer", took, floor, 3, f"{len(strings)} strings, {len(rig)} rig joints; floor: one forward pass")


def planting():
    """A walk that goes on for 10,000 frames: carried over with its feet planted, and planted anew by other contacts."""
    build = Build(fingers=True, twist=True, root=True, spine=4, neck=2)
    skeleton = make_figure(build)
    once = perform(acts.CLIPS["carry_bucket"](build, 100), skeleton, build)
    times = -(-FRAMES // once.frames)
    far = (once.translations[-1] - once.translations[0]) * [1, 0, 1]
    moves = np.concatenate([once.translations + far * i for i in range(times)])[:FRAMES]
    long = replace(once, rotations=np.concatenate([once.rotations] * times)[:FRAMES], translations=moves)
    body = read_body(skeleton)
    rig, strings, stance = _pair(long)
    made, rig_body = Transfer(skeleton, rig, strings, stance), read_body(rig)
    points = {p.name: p for p in contact_points(rig, rig_body)}
    legs, hips = legs_of(rig, rig_body.parts, points, rig_body.forward), rig_body.parts["hips"][0]

    def contacts():
        return ContactSearch(long, body, contact_points(skeleton, body)).run(ContactChoices())

    found, free = contacts(), made.run(long)
    floor = lambda: forward(long)  # noqa: E731
    whole = lambda: plant(made.run(long), legs, hips, contacts())  # noqa: E731
    took, planted, searched, passes = best(whole, lambda: plant(free, legs, hips, found), contacts, floor)
    text = f"{len(found.found)} contacts; floor: one forward pass; {{}}"
    yield row("transfer, contacts and planting", took, passes, 6, text.format("all of it"))
    yield row("planting alone", planted, passes, None, text.format("contacts known"))
    yield row("contacts alone", searched, passes, None, text.format("found in the clip"))
    part = long.cut(0, 2999)
    search, made_of = ContactSearch(part, body, contact_points(skeleton, body)), free.cut(0, 2999)
    choices = [ContactChoices().adjust("speed", 0.1 + 0.01 * i, None, None) for i in range(30)]

    def anew():
        return forward(
            plant(made_of, legs, hips, search.run(choices.pop() if choices else ContactChoices())).cut(50, 50)
        )

    [took] = best(anew)
    yield plain("changed threshold, 3,000 frames", took, 0.05, "searched and planted anew, without drawing")


def one_change():
    """A changed string (the stance is matched again) and a changed angle: the frame, and 3,000 frames."""
    long = clip().cut(0, 2999)
    rig, strings, stance = _pair(long)
    one = long.cut(0, 0)

    def string(frames):
        return lambda: forward(Transfer(long.skeleton, rig, strings, match(strings, long.skeleton, rig)).run(frames))

    def angle(frames):
        return lambda: forward(
            Transfer(long.skeleton, rig, strings, replace(stance, target=stance.target.copy())).run(frames)
        )

    times = best(string(one), angle(one), string(long), angle(long))
    for what, took, goal in zip(
        (
            "changed string, one frame",
            "changed angle, one frame",
            "changed string, 3,000 frames",
            "changed angle, 3,000 frames",
        ),
        times,
        (0.016, 0.016, 0.1, 0.1),
    ):
        yield plain(what, took, goal, "without drawing")


def reading_a_body():
    """Reading a body against one forward pass."""
    long = clip()
    took, floor = best(
        lambda: read_body(long.skeleton), lambda: world_rotation_rows(long.skeleton, as_rows(long.rotations))
    )
    yield row("reading a body", took, floor, None, f"{len(long.skeleton)} joints, once per skeleton")


BENCHMARKS = (forward_pass, transfer, planting, one_change, reading_a_body)
