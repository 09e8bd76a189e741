"""Files of ours as JSON: strict models, and what is said of one that is not valid."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from ..core.errors import InputError
from ..core.text import HALF, whole_characters
from ..formats.files import opened

Model = TypeVar("Model", bound=BaseModel)
_MAX_BYTES = 32 << 20


class Strict(BaseModel):
    """A part of a file of ours: no fields that are not known, no infinite numbers."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, frozen=True)


def load_file(path: Path, model: type[Model], version: int, what: str) -> Model:
    """Read a file of ours that is JSON as ``model``; InputError, in one sentence, for anything else."""
    path = Path(path)
    with opened(path) as handle:
        data = handle.read(_MAX_BYTES + 1)
    if len(data) > _MAX_BYTES:
        raise InputError(f"{path.name} is too large for a {what}.")
    return parse(path.name, data, model, version, what)


def parse(label: str, data: bytes, model: type[Model], version: int, what: str) -> Model:
    """Validate JSON bytes as ``model``; a newer version and a broken file get a sentence each."""
    try:
        raw = json.loads(data)
    except (ValueError, RecursionError):
        raise InputError(f"{label} is not a valid {what} or was cut off: it can't be read as JSON.") from None
    if HALF.search(data) and whole_characters(json.dumps(raw, ensure_ascii=False)) != json.dumps(
        raw, ensure_ascii=False
    ):
        raise InputError(f"{label} is not a valid {what}: it holds text that is none (half a character).")
    if not isinstance(raw, dict) or raw.get("format") != f"young-marionette {what}":
        raise InputError(f"{label} is not a Young Marionette {what}.")
    if isinstance(raw.get("version"), int) and raw["version"] > version:
        raise InputError(
            f"{label} comes from a newer version of Young Marionette; this one reads {what}s up to version {version}."
        )
    try:
        return model.model_validate(raw)
    except (ValidationError, RecursionError) as error:
        first = error.errors()[0] if isinstance(error, ValidationError) else {"loc": (), "msg": "nested too deeply"}
        where = ".".join(map(str, first["loc"])) or "the whole"
        raise InputError(f"{label} is not a valid {what}: {where}: {first['msg']}.") from None
