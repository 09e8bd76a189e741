"""How times are taken: the best of a few, both sides in turn, so that what else the machine does hits both."""

import time


def best(*actions, times=7):
    """The best time in seconds of each action, run in turn."""
    took = [float("inf")] * len(actions)
    for _ in range(times):
        for i, action in enumerate(actions):
            start = time.perf_counter()
            action()
            took[i] = min(took[i], time.perf_counter() - start)
    return took


def row(what, took, floor, goal=None, note=""):
    """A line of the table: a ratio against the floor, and whether it meets its goal."""
    ratio = took / floor
    mark = "" if goal is None else f"≤ {goal:g} {'✓' if ratio <= goal else '✗'}"
    return what, f"{took * 1000:.1f} ms", f"{floor * 1000:.1f} ms", f"{ratio:.2f}", mark, note


def plain(what, seconds, goal=None, note=""):
    """A line with a time that a goal in seconds is set for."""
    return (
        what,
        f"{seconds * 1000:.1f} ms",
        "",
        "",
        "" if goal is None else f"≤ {goal * 1000:g} ms {'✓' if seconds <= goal else '✗'}",
        note,
    )
