"""Layers of USD from bytes."""

from __future__ import annotations

import os
import tempfile
from typing import Any

from ...core.errors import InputError


def layer_of(data: bytes) -> Any:
    """A layer of the bytes of a binary one, that stands for no file."""
    from pxr import Sdf

    handle, name = tempfile.mkstemp(suffix=".usdc")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        layer = Sdf.Layer.OpenAsAnonymous(name)
    finally:
        os.unlink(name)
    if layer is None:
        raise InputError("The layer of a USD file can't be read any more.")
    return layer
