"""Stringings: saved pairings, readable JSON with a version, checked against both skeletons on use."""

from .adaptation import adapt, nearly_fits
from .conversion import from_file, to_file
from .files import encode, load, save
from .schema import StringingFile

__all__ = ["StringingFile", "adapt", "encode", "from_file", "load", "nearly_fits", "save", "to_file"]
