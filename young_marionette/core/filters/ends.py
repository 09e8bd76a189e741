"""What a filter sees beyond the first and the last frame."""

from __future__ import annotations

import numpy as np

from .. import rotations as rot


def extended(rows: np.ndarray, reach: int, seamless: bool = False) -> tuple[np.ndarray, int]:
    """``(rows (channels, n, frames + 2 * reach), reach)``: with what lies before and behind; fewer where there are few frames.

    Curves go on mirrored about their end values, so that their ends are not bent. ``seamless``: the last frame is the first
    one of the next round, wherever that has come to; channels of four values are rotations and turn on, others move on.
    """
    reach = min(reach, rows.shape[-1] - 1)
    if reach < 1:
        return rows, 0
    before, behind = rows[..., reach:0:-1], rows[..., -2 : -reach - 2 : -1]
    if not seamless:
        before, behind = 2 * rows[..., :1] - before, 2 * rows[..., -1:] - behind
    elif rows.shape[-2] == 4:
        # Rotations of the round before are turned by what a round turns.
        back = np.stack([rot.multiply(r[:, 0], rot.conjugate(r[:, -1])) for r in rows])
        before = np.stack([rot.multiply(b, r[:, -reach - 1 : -1].T).T for b, r in zip(back, rows)])
        behind = np.stack([rot.multiply(rot.conjugate(b), r[:, 1 : reach + 1].T).T for b, r in zip(back, rows)])
        before *= np.where(np.sum(before[..., -1] * rows[..., 0], -1) < 0, -1.0, 1.0)[:, None, None]
        behind *= np.where(np.sum(behind[..., 0] * rows[..., -1], -1) < 0, -1.0, 1.0)[:, None, None]
    else:
        way = rows[..., -1:] - rows[..., :1]
        before, behind = rows[..., -reach - 1 : -1] - way, rows[..., 1 : reach + 1] + way
    return np.concatenate([before, rows, behind], axis=-1), reach


def inner(rows: np.ndarray, reach: int) -> np.ndarray:
    """The rows without what ``extended`` added."""
    return rows[..., reach : rows.shape[-1] - reach]
