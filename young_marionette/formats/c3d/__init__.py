"""C3D: points over time from marker systems, Intel, DEC and MIPS, integer and real, by the package ezc3d."""

from .reader import read  # noqa: F401
from .writer import encode_markers  # noqa: F401
