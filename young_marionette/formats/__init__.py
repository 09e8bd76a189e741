"""Open file formats: one package each; ``read`` finds the right one by what the file holds."""

from __future__ import annotations

from typing import Any

__all__ = ["WRITABLE", "encode", "read", "write"]


def __getattr__(name: str) -> Any:
    """What most want of it; loaded when it is asked for, since the formats load much."""
    if name in __all__:
        from . import registry

        return getattr(registry, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
