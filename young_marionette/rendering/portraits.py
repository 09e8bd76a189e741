"""Pictures of single poses, for reports: drawn without a window or a screen."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

import numpy as np
from PIL import Image

from ..core.character.meshes import skin_reach
from ..core.errors import InputError
from ..core.evaluator import EVALUATOR
from ..core.scene.camera import Camera
from .renderer import Renderer

if TYPE_CHECKING:
    from ..core.scene.figure import Figure

SIZE = 200, 240
_QUALITY = 84
_NEAR = 0.25  # of a figure's height: how far over the floor it may be for that to be shown
_YAW, _PITCH = 0.55, 0.14  # radians: from where a figure is looked at, a little from its left and above


def portrait(figure: Figure, heading: float = 0.0, size: tuple[int, int] = SIZE) -> bytes:
    """A JPEG of a figure that faces ``heading`` (radians about the vertical); InputError where nothing can be drawn here."""
    renderer = EVALUATOR.of("renderer of portraits", (), _renderer)
    camera, (width, height) = Camera(), size
    camera.jump(yaw=heading + _YAW, pitch=_PITCH)
    extent = np.concatenate([figure.extent, _body(figure)])
    low, high = extent[:, 1].min(), extent[:, 1].max()
    if low < _NEAR * (high - low):
        # Its shadow belongs into the picture; the floor far below somebody on a ladder does not.
        extent = np.concatenate([extent, extent * [1, 0, 1]])
    camera.look_at(extent, width / height, glide=False)
    data = renderer.draw(size, camera.pose, [figure], fine=True)
    picture = Image.frombytes("RGBX", size, data).convert("RGB")
    held = io.BytesIO()
    picture.save(held, "JPEG", quality=_QUALITY)
    return held.getvalue()


def _body(figure: Figure) -> np.ndarray:
    """Points ``(n, 3)`` that the body reaches to around its joints: a head is larger than its bone."""
    if figure.character is None or figure.skeleton is None:
        return np.zeros((0, 3))
    reach = EVALUATOR.of("reach of skin", (figure.character,), lambda: skin_reach(figure.character))
    joints = np.flatnonzero(reach > 0)
    ways = np.concatenate([np.eye(3), -np.eye(3)])
    return (figure.placed[joints, None] + reach[joints, None, None] * ways).reshape(-1, 3)


def _renderer() -> Renderer:
    try:
        return Renderer()
    except Exception as error:  # whatever the driver says
        raise InputError(f"Pictures can't be drawn here: there is no OpenGL ({type(error).__name__}).") from None
