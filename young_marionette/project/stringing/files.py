"""Reading and writing ``*.stringing`` files."""

from __future__ import annotations

import json
from pathlib import Path

from ...core.errors import InputError
from ...formats.files import Output, check_free, opened, write_together
from ..strict import parse
from .schema import VERSION, StringingFile

_MAX_BYTES = 32 << 20


def encode(path: Path, file: StringingFile) -> list[Output]:
    """The files (list of Output) of a StringingFile."""
    text = json.dumps(file.model_dump(mode="json"), indent=1, ensure_ascii=False)
    return [Output(Path(path), [text.encode(), b"\n"])]


def save(path: Path, file: StringingFile, overwrite: bool = False) -> None:
    """Write a StringingFile."""
    check_free(path, overwrite)
    write_together(encode(path, file))


def load(path: Path) -> StringingFile:
    """Read a StringingFile; InputError, in one sentence, for anything else."""
    path = Path(path)
    with opened(path) as handle:
        data = handle.read(_MAX_BYTES + 1)
    if len(data) > _MAX_BYTES:
        raise InputError(f"{path.name} is too large for a stringing.")
    return parse(path.name, data, StringingFile, VERSION, "stringing")
