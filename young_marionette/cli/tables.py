"""Tables for the terminal, by Rich; apart, since it takes longer to load than a small file to read."""

from __future__ import annotations

import sys

from rich.console import Console

from ..core.text import shown


class PlainConsole(Console):
    """A console to which square brackets and colons mean nothing, and to which no file can send controls."""

    def __init__(self):
        # A pipe has no width of its own; long names must not be cut there.
        width = None if sys.stdout.isatty() else 120
        super().__init__(highlight=False, markup=False, emoji=False, soft_wrap=True, width=width)

    def render_str(self, text, **options):
        """Every text that is printed, in tables too, comes through here."""
        return super().render_str(shown(text, None, lines=True), **options)
