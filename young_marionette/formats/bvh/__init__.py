"""BVH: a hierarchy of joints with offsets and channels, then a table of numbers, a row per frame."""

from .layout import Layout  # noqa: F401
from .reader import read  # noqa: F401
from .writer import encode  # noqa: F401
