"""The two ways in which work ends early without being a defect."""

from __future__ import annotations

from .text import shown

_MOST = 380


class InputError(Exception):
    """Something the user gave can't be used; the message is one clear sentence for them.

    Whatever names the sentence holds, it is one line, without controls, and short (see text.shown).
    """

    def __init__(self, sentence: str) -> None:
        super().__init__(shown(sentence, _MOST))


class Cancelled(Exception):
    """The user asked a long job to stop."""
