"""Performances of the demo show whose plans are known: which foot stands when."""

from dataclasses import replace
from unittest import mock

import numpy as np

from young_marionette.core import rotations as rot
from young_marionette.core.humanoid.reading import read_body
from young_marionette.demo import clips as acts
from young_marionette.demo.acting import perform
from young_marionette.demo.figures import Build, make_figure


def acted(name, rate=30, build=None, jitter=0.0):
    """``(clip, body, plans of both feet, plan)`` of one of the demo's performances, as it was planned."""
    build, feet, real = build or Build(), [], acts.foot_track

    def noted(times, holds, build, lift=0.09, roll=1.0):
        feet.append((holds, roll))
        return real(times, holds, build, lift, roll)

    with mock.patch.object(acts, "foot_track", noted):
        plan = acts.CLIPS[name](build, rate)
    skeleton = make_figure(build)
    clip = perform(plan, skeleton, build)
    if jitter:
        rng = np.random.default_rng(31)
        shaken = rot.from_vector(rng.normal(0, jitter, (*clip.rotations.shape[:2], 3)))
        moves = clip.translations + rng.normal(0, jitter / 3, clip.translations.shape)
        clip = replace(clip, rotations=rot.multiply(clip.rotations, shaken), translations=moves)
    return clip, read_body(skeleton), feet, plan


def planned(holds, roll, times):
    """Where heel and ball stand by the plan (masks): the heel comes first, and leaves while the ball stays."""
    heel, ball = np.zeros(len(times), bool), np.zeros(len(times), bool)
    # A foot that hardly rolls keeps its heel within a hand's breadth of where it was.
    rolls = roll > 0.2
    for i, hold in enumerate(holds):
        stood = hold.end - hold.start
        lifts = min(0.26, stood * 0.4) if rolls and i + 1 < len(holds) else 0.0
        lands = min(0.1, stood * 0.25) if rolls and i > 0 else 0.0
        heel |= (times >= hold.start) & (times <= hold.end - lifts)
        ball |= (times >= hold.start + lands) & (times <= hold.end)
    return heel, ball


def mask_of(contacts, point, frames):
    """The frames in which a point touches (a mask)."""
    mask = np.zeros(frames, bool)
    for contact in contacts.of(point):
        mask[contact.first : contact.last + 1] = True
    return mask


def damaged(clip, rng, jitter=1.5, share=0.01):
    """``(clip with white jitter in degrees and spikes of 15 to 35 degrees, mask of the spikes)``."""
    shape = clip.rotations.shape[:2]
    shaken = rot.from_vector(rng.normal(0, np.radians(jitter), (*shape, 3)))
    spikes = rng.random(shape) < share
    axes = rot.normalise(rng.normal(size=(*shape, 3)))
    struck = np.where(spikes, np.radians(rng.uniform(15, 35, shape)), 0.0)[..., None] * axes
    return replace(clip, rotations=rot.multiply(rot.multiply(clip.rotations, shaken), rot.from_vector(struck))), spikes
