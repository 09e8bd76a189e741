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
from young_marionette.core.transfer.retarget import Transfer
from young_marionette.demo import clips as acts
from young_marionette.demo.acting import perform
from young_marionette.demo.figures import Build, make_figure
from young_marionette.project.entry import CLIP, RIG, Entry
from young_marionette.project.pairing import pair
from young_marionette.project.planting import adapts, carry, free_result, travelling
from young_marionette.project.playback import Motion

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
    """A walk that goes on for 10,000 frames: contacts, transfer, feet, hands and arms; and one changed threshold."""
    build = Build(fingers=True, twist=True, root=True, spine=4, neck=2)
    skeleton = make_figure(build)
    once = perform(acts.CLIPS["carry_bucket"](build, 100), skeleton, build)
    times = -(-FRAMES // once.frames)
    far = (once.translations[-1] - once.translations[0]) * [1, 0, 1]
    moves = np.concatenate([once.translations + far * i for i in range(times)])[:FRAMES]
    long = replace(once, rotations=np.concatenate([once.rotations] * times)[:FRAMES], translations=moves)
    source = Entry("walk", CLIP, "walk", None, "BVH", skeleton, long, None)
    rig = Entry("rig", RIG, "rig", None, "BVH", _pair(long)[0], None, None)
    pairing = pair(source, rig)
    assert adapts(pairing, rig)
    pairing.transfer, source.contacts  # noqa: B018 what is kept beside clips

    def anew(choices=ContactChoices()):
        body = source.metric_body
        search = ContactSearch(long, body, contact_points(source.placed_skeleton, body))
        return search.run(choices)

    found = source.contacts
    took, carried, searched, passes = best(
        lambda: carry(pairing, source, rig, long, anew()),
        lambda: carry(pairing, source, rig, long, found),
        anew,
        lambda: forward(long),
    )
    note = f"{len(found.found)} contacts, {len(rig.skeleton)} rig joints; floor: one forward pass"
    yield row("transfer with all of it", took, passes, 6, note)
    yield row("  contacts known", carried, passes, None, "transfer, feet, hands, arms out of the body")
    yield row("  contacts alone", searched, passes, None, "points, search, touches of hands")
    part = replace(source, take=long.cut(0, 2999))
    part.contacts  # noqa: B018
    free = free_result(travelling(pairing), part.placed_clip)
    choices = [ContactChoices().adjust("speed", 0.1 + 0.01 * i, None, None) for i in range(30)]

    def other():
        return replace(part, contact_choices=choices.pop() if choices else ContactChoices())

    def whole():
        changed = other()
        return carry(pairing, changed, rig, changed.placed_clip, changed.contacts, free=free)

    shown, took = best(lambda: Motion(other(), pairing, rig).at(1500), whole)
    yield plain(
        "changed threshold, 3,000 frames: the frame", shown, 0.05, "as the stage shows it at once, without drawing"
    )
    yield plain("  all of it", took, None, "off the interface thread")


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
