"""The commands ``adjust``, ``mirror``, ``retime`` and ``join``: clips changed as a whole, or in a range, and written anew."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..core.errors import InputError
from ..core.kinematics import forward_rows
from .console import print_json, say
from .report import edited, file_notes, print_edited, print_file_notes

if TYPE_CHECKING:
    from argparse import Namespace
    from collections.abc import Sequence

    from ..core.passes.stack import Method


def adjust(asked: Namespace) -> None:
    """The hips higher, the head up, arms wider, a lean, bones turned."""
    from ..core.passes.adjusting import Adjust
    from .main import range_of

    if not 0 <= asked.ease <= 600:
        raise InputError("--ease is a time of 0 to 600 seconds.")
    turns = tuple(map(_turn, asked.turn or ()))
    method = Adjust(asked.hips_up / 100, asked.look_up, asked.arms_wider, asked.lean, turns, asked.ease)
    if method == Adjust(seconds=asked.ease):
        raise InputError("Say what to adjust: --hips-up, --look-up, --arms-wider, --lean or --turn.")
    told, raised = _run(asked, [method], range_of(asked.frames), asked.keep)
    reached = float(raised.max(initial=0.0) if method.hips > 0 else raised.min(initial=0.0)) * 100
    if asked.as_json:
        print_json({**told, "hips_cm": {"asked": asked.hips_up, "reached": round(reached, 3)}})
        return
    print_edited(told)
    if method.hips and abs(reached - asked.hips_up) > 0.05:
        say(f"The hips go up {reached:.1f} cm and no farther: the legs are straight then")


def mirror(asked: Namespace) -> None:
    """Left and right changed over."""
    from ..core.passes.mirroring import Mirror

    _told(asked, [Mirror()])


def retime(asked: Namespace) -> None:
    """Quicker or slower; feet stay planted."""
    from ..core.passes.timing import Time

    method = Time(speeds=((0, asked.speed),))
    method.check()
    _told(asked, [method])


def join(asked: Namespace) -> None:
    """Two clips of one rig as one."""
    from .. import api
    from ..formats.files import check_results
    from ..formats.registry import check_writable

    if not 0 < asked.blend <= 60:
        raise InputError("--blend is a time of up to 60 seconds.")
    check_results([asked.out], [asked.first, asked.second])
    check_writable(asked.out, asked.overwrite)
    entries = [
        api.read(path, None, asked.skeleton, asked.source_up, asked.source_facing)
        for path in (asked.first, asked.second)
    ]
    take, change = api.join(*map(api.take_of, entries), asked.blend, _frames(asked.at))
    api.write(take, asked.out, asked.overwrite, inputs=[asked.second])
    told = {
        "files": [str(entry.path) for entry in entries],
        "out": str(asked.out),
        "frames": take.frames,
        "rate": take.rate,
        "change": {"first": change.first, "second": change.second, "apart_cm": round(change.cost * 100, 3)},
        "notes": file_notes(*entries),
    }
    if asked.as_json:
        print_json(told)
        return
    names = " and ".join(entry.name for entry in entries)
    say(f"{names}: {take.frames} frames at {take.rate:g} fps")
    say(f"From frame {change.first} of the first to frame {change.second} of the second, within {asked.blend:g} s")
    print_file_notes(*entries)
    say(f"Wrote {asked.out}")


def _frames(text: str | None) -> tuple[int, int] | None:
    """Two frames, of ``A:B``."""
    if text is None:
        return None
    try:
        a, b = map(int, text.split(":"))
    except ValueError:
        raise InputError(
            f"'{text}' is no pair of frames: give A:B, the frames of both where the change begins."
        ) from None
    return a, b


def _told(asked: Namespace, methods: Sequence[Method]) -> None:
    told, _ = _run(asked, methods, None, True)
    if asked.as_json:
        print_json(told)
    else:
        print_edited(told)


def _run(
    asked: Namespace, methods: Sequence[Method], frames: tuple[int, int] | None, keep: bool
) -> tuple[dict, np.ndarray]:
    """Read, change, write: ``(what was done as plain data, how far the hips went up on each frame (metres))``."""
    from .. import api
    from ..formats.files import check_results
    from ..formats.registry import check_writable
    from .main import read_source

    check_results([asked.out], [asked.file])
    check_writable(asked.out, asked.overwrite)
    entry = read_source(asked, asked.file)
    take = api.edit(api.take_of(entry), methods, frames, keep)
    api.write(take, asked.out, asked.overwrite)
    told = edited(entry, take.passed.changes(0), take, asked.out)
    before, after = take.passed.clip, take.clip
    if before.frames != after.frames or take.passed.limbs.body is None:
        return told, np.zeros(0)
    hips = take.passed.limbs.hips
    return told, forward_rows(after)[0][hips][1] - forward_rows(before)[0][hips][1]


def _turn(text: str) -> tuple[str, tuple[float, float, float]]:
    """A bone and degrees about its own axes, of ``BONE=X,Y,Z``."""
    name, _, numbers = text.rpartition("=")
    try:
        x, y, z = map(float, numbers.split(","))
    except ValueError:
        raise InputError(f"'{text}' is no turn of a bone: give BONE=X,Y,Z, in degrees about its own axes.") from None
    if not name or not all(abs(v) <= 360 for v in (x, y, z)):
        raise InputError(f"'{text}' is no turn of a bone: give BONE=X,Y,Z, in degrees about its own axes.")
    return name, (x, y, z)
