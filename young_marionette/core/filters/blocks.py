"""Channels worked on in blocks that fit a processor's cache, on all processors where there are many."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

_BLOCK = 160_000  # values
_FEW = 4  # blocks: as many are quicker done one by one


def in_blocks(channels: int, values: int, work: Callable[[slice], None]) -> None:
    """Call ``work`` with slices of ``channels`` of so many ``values`` each; it must only write to its own ones."""
    size = max(_BLOCK // max(values, 1), 1)
    parts = [slice(start, start + size) for start in range(0, channels, size)]
    if len(parts) <= _FEW:
        for part in parts:
            work(part)
        return
    with ThreadPoolExecutor(os.process_cpu_count() if hasattr(os, "process_cpu_count") else os.cpu_count()) as pool:
        list(pool.map(work, parts))
