"""Blocks of a long clip thinned in processes of their own: threads would wait for each other."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .settings import Thin
    from .thinning import Subject, Thinner

_POLL = 0.1  # seconds between looks at whether anybody wants to stop
_MOST = 4

_thinner: Thinner | None = None


def thin_blocks(
    subject: Subject, asked: Thin, count: int, progress: Callable[[float], None] | None
) -> list[tuple[Any, dict[int, str]]] | None:
    """What Thinner.block gives for each of ``count`` blocks; None where no processes can be had.

    ``progress``: told at times; what it raises ends all of them.
    """
    try:
        pool = multiprocessing.get_context("spawn").Pool(min(os.cpu_count() or 1, count, _MOST), _begin, (subject,))
    except OSError:
        return None
    try:
        found = dict(_told(pool.imap_unordered(_work, [(asked, i) for i in range(count)]), count, progress))
    finally:
        pool.terminate()
        pool.join()
    return [found[i] for i in range(count)]


def _told(
    results: Any, count: int, progress: Callable[[float], None] | None
) -> Iterator[tuple[int, tuple[Any, dict[int, str]]]]:
    done = 0
    while done < count:
        try:
            yield results.next(_POLL)
            done += 1
        except multiprocessing.TimeoutError:
            pass
        if progress is not None:
            progress(done / (count + 1))


def _begin(subject: Subject) -> None:
    global _thinner
    from .thinning import Thinner

    _thinner = Thinner(subject)


def _work(job: tuple[Thin, int]) -> tuple[int, tuple[Any, dict[int, str]]]:
    asked, number = job
    assert _thinner is not None  # see _begin
    return number, _thinner.block(asked, number, lambda: None)
