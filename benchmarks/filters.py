"""Filters: their speed against one forward pass, what they leave against one who knows the truth, and dragged values."""

import time
from dataclasses import replace

import numpy as np

from tests.acting import acted, damaged
from young_marionette.core import rotations as rot
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.filters.lowpass import butterworth
from young_marionette.core.filters.methods import Adaptive, LowPass, Spikes
from young_marionette.core.filters.motion import Scope, filtered
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.keeping import Limbs
from young_marionette.core.passes.measuring import turned
from young_marionette.core.passes.stack import Pass, Stage, run
from young_marionette.project.passes import Passed

from .core import clip
from .measure import best, plain, row

TURNS = Scope(("rotation",))
NAMES = ("carry_bucket", "haul_rope", "light_lamp", "sweep_quay")


def wandering():
    """10,000 frames of 63 joints that wander about, as smoothly as people move."""
    long = clip()
    ways = np.random.default_rng(1).normal(0, 1.5, (len(long.skeleton), 3, long.frames))
    return replace(long, rotations=rot.from_vector(np.moveaxis(butterworth(ways, long.rate, 3.0), -1, 0)))


def off(a, b):
    """RMS angle between the rotations of two clips, degrees."""
    return float(np.degrees(np.sqrt(np.mean(turned(a, b) ** 2))))


def oracle(truth, hurt, struck):
    """What one leaves who knows the spikes, and the best cut-off of each joint."""
    best_of, frames = [], np.arange(truth.frames)
    for joint in range(len(truth.skeleton)):
        good = np.flatnonzero(~struck[:, joint])
        rows = np.stack([np.interp(frames, good, r[good]) for r in rot.continuous(hurt.rotations[:, joint]).T])
        tried = (
            rot.normalise(butterworth(rows[None], truth.rate, hz)[0].T)
            for hz in np.geomspace(0.7, 0.35 * truth.rate, 16)
        )
        angles = (rot.angle(rot.multiply(rot.conjugate(truth.rotations[:, joint]), q)) for q in tried)
        best_of.append(min(np.mean(a**2) for a in angles))
    return float(np.degrees(np.sqrt(np.mean(best_of))))


def filter_speed():
    """10,000 frames of 63 joints with jitter and spikes."""
    long = wandering()
    hurt, _ = damaged(long, np.random.default_rng(1))
    mended, _ = filtered(hurt, Spikes(), TURNS)
    both, spikes, low, auto, adaptive, passes = best(
        lambda: filtered(filtered(hurt, Spikes(), TURNS)[0], LowPass(6.0), TURNS),
        lambda: filtered(hurt, Spikes(), TURNS),
        lambda: filtered(mended, LowPass(6.0), TURNS),
        lambda: filtered(mended, LowPass(), TURNS),
        lambda: filtered(mended, Adaptive(), TURNS),
        lambda: forward(long),
        times=4,
    )
    yield row(
        "spikes and low-pass",
        both,
        passes,
        6,
        f"{long.frames} frames, {len(long.skeleton)} joints; floor: one forward pass",
    )
    for name, took in (
        ("  spikes", spikes),
        ("  low-pass", low),
        ("  low-pass, cut-offs suggested", auto),
        ("  smooth, accents kept", adaptive),
    ):
        yield row(name, took, passes)


def filter_quality():
    """RMS degrees left of 1.5 degrees of jitter and 1 % spikes, against one who knows the spikes and the best cut-offs."""
    rng = np.random.default_rng(4)
    for name in NAMES:
        truth, body, _, _ = acted(name, 60)
        hurt, struck = damaged(truth, rng)
        floor, contacts = oracle(truth, hurt, struck), find_contacts(hurt, body)
        limbs = Limbs.of(truth.skeleton, body, None)
        for what, method, keep, goal in (
            ("low-pass", LowPass(), False, 1.1),
            ("low-pass, contacts kept", LowPass(), True, 1.1),
            ("smooth", Adaptive(), False, 1.1),
            ("smooth, contacts kept", Adaptive(), True, 1.1),
        ):
            passes = [Pass(name, one, TURNS.channels, keep=keep) for name, one in (("a", Spikes()), ("b", method))]
            left = off(truth, run(passes, Stage(hurt, contacts), limbs).clip)
            mark = f"≤ {goal:g} {'✓' if left <= goal * floor else '✗'}"
            yield (
                f"error left, {what}: {name}",
                f"{left:.2f}°",
                f"{floor:.2f}°",
                f"{left / floor:.2f}",
                mark,
                "floor: spikes and best cut-offs known",
            )
        clean = off(truth, filtered(filtered(truth, Spikes(), TURNS)[0], LowPass(), TURNS)[0])
        yield (
            f"  changed where it is clean: {name}",
            f"{clean:.2f}°",
            "",
            "",
            f"≤ 0.5° {'✓' if clean <= 0.5 else '✗'}",
            "",
        )


def dragged_cut_off():
    """A cut-off that is dragged, on 3,000 frames with feet that stay planted: the frame on the stage, and a bone's curves."""
    once = acted("carry_bucket", 100)[0]
    times = -(-3000 // once.frames)
    long = replace(
        once,
        rotations=np.concatenate([once.rotations] * times)[:3000],
        translations=np.concatenate([once.translations] * times)[:3000],
    )
    body = read_body(long.skeleton)
    one = Pass("a", LowPass(6.0))
    known = Passed(long, (one,), body)
    known.stage()
    cutoffs = iter(np.linspace(3, 9, 400))

    def other():
        return Passed(long, (replace(one, method=LowPass(float(next(cutoffs)))),), body)

    frame, curves, whole = best(
        lambda: other().part(1500, 1500), lambda: other().sketch(("left forearm",)), lambda: other().stage()
    )
    yield plain(
        "dragged cut-off, 3,000 frames: the frame", frame, 0.05, "as the stage shows it at once, without drawing"
    )
    yield plain("  a bone's curves", curves, 0.05, "without drawing")
    yield plain("  all of it", whole, None, "off the interface thread")


def many_curves():
    """The curve view with all curves of 60 joints over 10,000 frames: a zoom, and a step of the playhead."""
    from .window import _window

    app, window, _ = _window()
    long = wandering()
    from young_marionette.core.keys.curves import curves

    panel = window.timeline.curves
    window.timeline.show_lanes(False, True)
    window.stack.setSizes([400, 400])
    app.processEvents()
    plot, scale = panel.plot, window.timeline.scale
    scale.session = type("Session", (), {"frames": long.frames})()
    plot.session = type(
        "Session", (), {"frames": long.frames, "frame": 5000, "range": (0, long.frames - 1), "rate": 120.0}
    )()
    every = curves(long, list(long.skeleton.names[:60]), "angles")
    plot.show_curves(every, [], "°", fit=True)
    zooms, steps = [], []
    for i in range(24):
        scale.zoom(300.0, 700, 120 if i < 12 else -120)
        start = time.perf_counter()
        plot.repaint()
        zooms.append(time.perf_counter() - start)
        plot.session.frame += 1
        start = time.perf_counter()
        plot.repaint()
        steps.append(time.perf_counter() - start)
    note = f"{len(every)} curves of {long.frames} frames, {plot.width()} x {plot.height()}"
    yield plain("curve view: zoomed", float(np.median(zooms)), 0.1, note)
    yield plain("curve view: playhead moved", float(np.median(steps)), 1 / 60, note)
    window.session.document.mark_saved(None)
    window.close()


BENCHMARKS = (filter_speed, filter_quality, dragged_cut_off, many_curves)
