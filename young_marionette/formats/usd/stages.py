"""Layers of USD from bytes, and what the library says of them kept off the terminal."""

from __future__ import annotations

import contextlib
import os
import tempfile

from ...core.errors import InputError


def layer_of(data):
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


@contextlib.contextmanager
def quiet():
    """Keep what the USD library says of broken files off the terminal; what counts is raised."""
    saved = os.dup(2)
    sink = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(sink, 2)
        yield
    finally:
        os.dup2(saved, 2)
        os.close(saved)
        os.close(sink)
