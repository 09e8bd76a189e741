"""Pictures of a delivered clip."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ...core.errors import InputError
from ...core.evaluator import EVALUATOR
from ...core.kinematics import forward
from ...core.scene.figure import MARIONETTE, Bones, Figure
from ...core.travel.path import heading_of

if TYPE_CHECKING:
    from ...core.clip import Clip
    from ..entry import Entry


def poses(clip: Clip, rig: Entry, count: int) -> tuple[bytes, ...]:
    """JPEG pictures of so many poses of a clip on the placed rig, evenly over its time; none where none can be drawn here."""
    try:
        from ...rendering.portraits import portrait
    except ImportError:
        return ()
    body, character = rig.figure.body, rig.placed_character
    bones = EVALUATOR.of(
        "bones", (rig.placed_skeleton, rig.figure), lambda: Bones.of(rig.placed_skeleton, body, rig.figure.height)
    )
    made = []
    for at in np.round((np.arange(count) + 0.5) / count * (clip.frames - 1)).astype(int).tolist():
        pose = clip.cut(at, at)
        places, turns = forward(pose)
        figure = Figure(MARIONETTE, rig.name, bones, places[0], turns[0], height=rig.figure.height)
        figure.skeleton, figure.character = rig.placed_skeleton, character
        figure.dress = "body" if character is not None else "bones"
        shown = rig.with_morphs(pose)
        figure.weights = {name: float(value) for name, value in zip(shown.morphs, shown.weights[0])}
        hips = body.parts["hips"][0] if body is not None else 0
        heading = heading_of(turns[0][hips][:, None], rig.placed_skeleton.rest_world[1][hips])
        try:
            made.append(portrait(figure, float(heading[0])))
        except InputError:
            return ()
    return tuple(made)
