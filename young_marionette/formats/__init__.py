"""Open file formats: one package each; ``read`` finds the right one by what the file holds."""

from .registry import WRITABLE, encode, read, write  # noqa: F401
