"""Names of delivered files, made from a template."""

from __future__ import annotations

import re
from string import Formatter
from typing import Annotated, Literal

from pydantic import Field, field_validator

from ...core.errors import InputError
from ..strict import Strict

FIELDS = ("clip", "rig", "source", "date", "number")
CASES = ("", "lower", "upper")
_WIDEST = 100  # characters that a template pads a part to
_LONGEST = 180  # bytes, so that what goes before or behind still fits
Text = Annotated[str, Field(max_length=200)]


class Names(Strict):
    """A template such as ``{clip}_{rig}`` with what is changed of it: case, a text found and replaced, texts before and behind.

    Fields: the clip's and the rig's name, the name of the source's file, the date, the clip's number in the order, which may
    be given digits (``{number:03}``).
    """

    template: Text = "{clip}_{rig}"
    case: Literal["", "lower", "upper"] = ""
    find: Text = ""
    replace: Text = ""
    before: Text = ""
    behind: Text = ""

    @field_validator("template")
    @classmethod
    def _known(cls, template: str) -> str:
        try:
            check_template(template)
        except InputError as error:
            raise ValueError(str(error).removesuffix(".")) from None
        return template

    def of(self, clip: str, rig: str, source: str, date: str, number: int) -> str:
        """The name, without an ending, of a clip on a rig.

        >>> Names(template="{rig}-{number:02}", behind=" v1").of("walk", "Heron", "take", "2026-01-01", 7)
        'Heron-07 v1'
        """
        text = self.template.format(clip=clip, rig=rig, source=source, date=date, number=number)
        if self.find:
            text = text.replace(self.find, self.replace)
        text = self.before + text + self.behind
        return file_name(text.lower() if self.case == "lower" else text.upper() if self.case == "upper" else text)


def check_template(template: str) -> None:
    """InputError for a template whose fields are not known, or that can't be filled in."""
    try:
        fields = [name for _, name, _, _ in Formatter().parse(template) if name is not None]
        if unknown := [name for name in fields if name not in FIELDS]:
            raise InputError(
                f"'{{{unknown[0]}}}' is no part of a name; use {', '.join('{' + f + '}' for f in FIELDS)}."
            )
        specs = [spec for _, name, spec, _ in Formatter().parse(template) if name is not None and spec]
        if any("{" in spec or any(int(n) > _WIDEST for n in re.findall(r"\d+", spec)) for spec in specs):
            raise InputError(f"A part of a name can be {_WIDEST} characters wide at most.")
        template.format(clip="", rig="", source="", date="", number=1)
    except (ValueError, IndexError, KeyError, AttributeError):
        raise InputError(f"'{template}' is no template for names; write it as {{clip}}_{{rig}}.") from None
    if not template.strip():
        raise InputError("A template for names can't be empty; write it as {clip}_{rig}.")


def file_name(name: str) -> str:
    """A name without what file names can't have.

    >>> file_name("walk: 1/2.")
    'walk_1_2'
    """
    plain = "".join("_" if c in '/\\:*?"<>|' or ord(c) < 32 else c for c in name.replace(": ", "_"))
    plain = plain.strip(". ")
    data = plain.encode("utf-8", "surrogateescape")
    if len(data) > _LONGEST:
        # Cut behind a whole character: bytes of the next one are left away.
        cut = data[:_LONGEST]
        while cut and (data[len(cut)] & 0xC0) == 0x80:
            cut = cut[:-1]
        plain = cut.decode("utf-8", "surrogateescape")
    return plain.strip(". ") or "clip"
