"""Text that came from outside (names in files, file names), made safe and short for people to read."""

from __future__ import annotations

import re
import unicodedata
from pathlib import Path

# Controls and formatting marks (which can turn round or hide what stands beside them), halves of characters,
# private ones, and separators of lines.
_UNSAFE = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}
_PLAIN = re.compile(r"[ -~\u00a1-\u00ac\u00ae-\u024f]*")
UNKNOWN = "\ufffd"
HALF = re.compile(rb"\\u[dD][89a-fA-F]")  # in JSON: what may be half a character


def shown(text: Path | str, most: int | None = 120, lines: bool = False) -> str:
    """``text`` as people may be shown it: on one line, without controls, cut in its middle to ``most`` characters.

    ``lines``: keeps line breaks. None of ``most`` leaves the length.

    >>> shown("left\\x1b[31m arm\\nend")
    'left�[31m arm end'
    >>> shown("a_rather_long_name", 9)
    'a_ra…name'
    """
    text = str(text)
    if not _PLAIN.fullmatch(text):
        text = "".join(map(_safe_line if lines else _safe, text))
    if most is not None and len(text) > most:
        tail = (most - 1) // 2
        text = f"{text[: most - 1 - tail]}…{text[len(text) - tail :]}"
    return text


def _safe(character: str) -> str:
    if character in "\n\t\r\v\f\u2028\u2029":
        return " "
    return UNKNOWN if unicodedata.category(character) in _UNSAFE else character


def _safe_line(character: str) -> str:
    return character if character == "\n" else _safe(character)


def whole_characters(text: str) -> str:
    """``text`` with halves of characters (lone surrogates), which no file can hold, replaced."""
    return text.encode("utf-16-le", "surrogatepass").decode("utf-16-le", "replace")
