"""Reading and writing ``*.stringing`` files."""

from __future__ import annotations

import json
from pathlib import Path

from ...formats.files import Output, check_free, write_together
from ..strict import load_file
from .schema import VERSION, StringingFile


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
    return load_file(path, StringingFile, VERSION, "stringing")
