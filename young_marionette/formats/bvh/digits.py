"""Numbers as text, many at once: each place of all numbers is worked out as one plane of digits."""

from __future__ import annotations

import numpy as np

_MOST = 2.0**52  # of a number with its decimals as a whole one: below it, none is lost


def rows_of_text(table: np.ndarray, decimals: np.ndarray) -> bytes:
    """The rows of ``table (rows, columns)`` as lines of numbers with blanks between them.

    ``decimals (columns,)``: how many each column has. Numbers are rounded to the nearest; those too large for that are
    formatted one by one.

    >>> rows_of_text(np.array([[1.25, -30.0], [0.0, 2.0]]), np.array([1, 3]))
    b'1.2 -30.000\\n0.0 2.000\\n'
    """
    if not table.size:
        return b""
    scaled = np.abs(table) * 10.0**decimals
    if not scaled.max() < _MOST:  # also true for NaN
        form = " ".join(f"%.{d}f" for d in decimals) + "\n"
        return (form * len(table) % tuple(table.ravel().tolist())).encode()
    whole = np.rint(scaled)
    most = int(decimals.max())
    before = len(str(int((whole / 10.0**decimals).max())))
    # From the left: sign, digits before the point, point, decimals, what separates. Zero is no character at all.
    planes = np.zeros((before + most + 3, *table.shape), np.uint8)
    planes[0][(table < 0) & (whole > 0)] = ord("-")
    planes[-1], planes[-1, :, -1] = ord(" "), ord("\n")
    for count in np.unique(decimals):
        columns = np.flatnonzero(decimals == count)
        part = whole[:, columns].astype(np.int64)
        digits = np.zeros((before + most + 3, *part.shape), np.uint8)
        above = part // 10**count
        _digits(part - above * 10**count, digits[before + 2 : before + 2 + count], True)
        _digits(above, digits[1 : before + 1], False)
        if count:
            digits[before + 1] = ord(".")
        digits[0], digits[-1] = planes[0][:, columns], planes[-1][:, columns]
        planes[:, :, columns] = digits
    text = np.ascontiguousarray(np.moveaxis(planes, 0, -1)).ravel()
    return text[text != 0].tobytes()


def _digits(numbers: np.ndarray, planes: np.ndarray, zeros: bool) -> None:
    """Write the digits of whole numbers into planes, the last one last; ``zeros``: leading ones too."""
    if len(planes) < 10:
        numbers = numbers.astype(np.uint32)
    for place in range(len(planes) - 1, -1, -1):
        above = numbers // 10
        digit = (numbers - above * 10).astype(np.uint8) + np.uint8(48)
        if not zeros and place < len(planes) - 1:
            digit[numbers == 0] = 0
        planes[place] = digit
        numbers = above
