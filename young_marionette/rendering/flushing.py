"""Telling the driver to begin with what was asked of it, which moderngl has no call for."""

from __future__ import annotations

import ctypes
from collections.abc import Callable


def flusher() -> Callable[[], None]:
    """OpenGL's ``glFlush`` of whatever context is current; where it can't be had, what does nothing."""
    try:
        find = ctypes.CDLL("libEGL.so.1").eglGetProcAddress
    except (OSError, AttributeError):
        return lambda: None
    find.restype, find.argtypes = ctypes.c_void_p, [ctypes.c_char_p]
    place = find(b"glFlush")
    return ctypes.CFUNCTYPE(None)(place) if place else lambda: None
