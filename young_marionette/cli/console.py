"""What goes to the terminal: text as it is, never as markup, and without controls from files."""

from __future__ import annotations

import json
import re
import sys

from ..core.text import shown

_RISKY = re.compile("[\u007f-\u009f\u00ad\u200b-\u200f\u2028-\u202e\u2060-\u206f\ud800-\udfff\ufeff]")


def say(text):
    """Print a line, with whatever names it holds."""
    print(shown(text, None, lines=True))


def print_json(data):
    """Print data as JSON that any terminal can bear: what could be taken for a control is escaped, and stays the same."""
    text = json.dumps(data, indent=1, ensure_ascii=False)
    print(_RISKY.sub(lambda match: f"\\u{ord(match.group()):04x}", text))


def tell_error(sentence):
    """Print a sentence on standard error."""
    print(shown(sentence, None), file=sys.stderr)


def forgiving_streams():
    """Let text that the terminal's encoding does not know be printed by its number, and end nothing."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
