"""What goes to the terminal: text as it is, never as markup, and without controls from files."""

from __future__ import annotations

import json
import re
import sys

from rich.console import Console

from ..core.text import shown

_RISKY = re.compile("[\u007f-\u009f\u00ad\u200b-\u200f\u2028-\u202e\u2060-\u206f\ud800-\udfff\ufeff]")


class PlainConsole(Console):
    """A console to which square brackets and colons mean nothing, and to which no file can send controls."""

    def __init__(self):
        # A pipe has no width of its own; long names must not be cut there.
        width = None if sys.stdout.isatty() else 120
        super().__init__(highlight=False, markup=False, emoji=False, soft_wrap=True, width=width)

    def render_str(self, text, **options):
        """Every text that is printed, in tables too, comes through here."""
        return super().render_str(shown(text, None, lines=True), **options)


def print_json(data):
    """Print data as JSON that any terminal can bear: what could be taken for a control is escaped, and stays the same."""
    text = json.dumps(data, indent=1, ensure_ascii=False)
    print(_RISKY.sub(lambda found: f"\\u{ord(found.group()):04x}", text))


def tell_error(sentence):
    """Print a sentence on standard error."""
    print(shown(sentence, None), file=sys.stderr)


def forgiving_streams():
    """Let text that the terminal's encoding does not know be printed by its number, and end nothing."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
