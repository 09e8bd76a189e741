"""ASF and AMC: a skeleton in one file, motion for it in another beside it. Read only."""

from .reader import read  # noqa: F401
