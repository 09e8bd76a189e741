"""The HIERARCHY part of a BVH file."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any, NoReturn

import numpy as np

from ...core.errors import InputError
from ...core.findings import finding
from ...core.names import FreeNames
from ...core.skeleton import Skeleton
from .layout import Layout

MAX_JOINTS = 20_000
_TOKEN = re.compile(r"[{}]|[^\s{}]+")
_CHANNEL = re.compile(r"([XYZ])(position|rotation)", re.I)


@dataclass
class _Joint:
    name: str
    parent: int
    offset: list | None = None
    channels: tuple | None = None
    tip: list | None = None


@dataclass
class _Parser:
    label: str
    text: str
    joints: list = field(default_factory=list)
    notes: list = field(default_factory=list)

    def fail(self, at: int, what: str) -> NoReturn:
        line = self.text.count("\n", 0, at) + 1
        raise InputError(f"{self.label}, line {line}: {what}.")

    def parse(self) -> None:
        """Read all joints; the text ends where MOTION begins or the file does."""
        tokens = [(m.group(), m.start()) for m in _TOKEN.finditer(self.text)]
        tokens.append(("", len(self.text)))
        if tokens[0][0].upper() != "HIERARCHY":
            self.fail(0, "a BVH file begins with the word HIERARCHY")
        at, stack = 1, []
        while tokens[at][0]:
            word, place = tokens[at]
            key = word.upper()
            if key in ("ROOT", "JOINT"):
                at = self._joint(tokens, at, stack, key)
            elif key == "END" and stack and tokens[at + 1][0].upper() == "SITE":
                at = self._end_site(tokens, at, stack)
            elif key == "OFFSET" and stack:
                self.joints[stack[-1]].offset, at = self._numbers(tokens, at)
            elif key == "CHANNELS" and stack:
                at = self._channels(tokens, at, self.joints[stack[-1]])
            elif word == "}" and stack:
                self._close(place, self.joints[stack.pop()])
                at += 1
            else:
                self.fail(
                    place, f"'{word[:40]}' does not belong here" if stack or word != "}" else "a } closes nothing"
                )
        if stack:
            raise InputError(
                f"{self.label} ends in the middle of its hierarchy, inside the joint {self.joints[stack[-1]].name}."
            )
        if not self.joints:
            raise InputError(f"{self.label} holds no joints.")

    def _joint(self, tokens: list[tuple[str, int]], at: int, stack: list[int], key: str) -> int:
        place = tokens[at][1]
        if key == "ROOT" and self.joints:
            raise InputError(
                f"{self.label} holds more than one skeleton (a second ROOT in line "
                f"{self.text.count(chr(10), 0, place) + 1}); save each in a file of its own."
            )
        if key == "JOINT" and not stack:
            self.fail(place, "a JOINT stands outside the ROOT")
        end = at + 1
        while tokens[end][0] not in ("{", "}", "") and "\n" not in self.text[place : tokens[end][1]]:
            end += 1
        if tokens[end][0] != "{":
            self.fail(
                tokens[end][1],
                f"an opening brace is missing after {key} {self.text[place + len(key) : tokens[end][1]].strip()[:40]}".rstrip(),
            )
        name = self.text[place + len(key) : tokens[end][1]].strip() or f"joint {len(self.joints) + 1}"
        self.joints.append(_Joint(name, stack[-1] if stack else -1))
        if len(self.joints) > MAX_JOINTS:
            raise InputError(f"{self.label} has more than {MAX_JOINTS} joints, which is more than can be used.")
        stack.append(len(self.joints) - 1)
        return end + 1

    def _end_site(self, tokens: list[tuple[str, int]], at: int, stack: list[int]) -> int:
        at += 2
        while tokens[at][0] not in ("{", ""):  # some programs name their end sites
            at += 1
        if tokens[at + 1][0].upper() != "OFFSET" if tokens[at][0] else True:
            self.fail(tokens[at][1], "an End Site needs an OFFSET in braces")
        tip, at = self._numbers(tokens, at + 1)
        if tokens[at][0] != "}":
            self.fail(tokens[at][1], "an End Site is not closed")
        joint = self.joints[stack[-1]]
        if joint.tip is None:
            joint.tip = tip
        return at + 1

    def _numbers(self, tokens: list[tuple[str, int]], at: int) -> tuple[list[float], int]:
        values = []
        for word, place in tokens[at + 1 : at + 4]:
            try:
                values.append(float(word))
            except ValueError:
                self.fail(place, f"an OFFSET needs three numbers, not '{word[:40]}'")
            if not abs(values[-1]) < 1e12:
                self.fail(place, f"the offset {word[:40]} is no usable number")
        return values, at + 4

    def _channels(self, tokens: list[tuple[str, int]], at: int, joint: _Joint) -> int:
        count = tokens[at + 1][0]
        if not count.isascii() or not count.isdigit() or int(count[:9]) > 6:
            self.fail(tokens[at][1], f"CHANNELS needs a count from 0 to 6, not '{count[:40]}'")
        names = []
        for word, place in tokens[at + 2 : at + 2 + int(count)]:
            match = _CHANNEL.fullmatch(word)
            if not match:
                self.fail(place, f"'{word[:40]}' is not a channel")
            names.append(match.group(1).upper() + match.group(2).lower())
        if len(set(names)) != int(count):
            self.fail(tokens[at][1], f"{joint.name} lists a channel twice or too few")
        joint.channels = tuple(names)
        return at + 2 + int(count)

    def _close(self, place: int, joint: _Joint) -> None:
        if joint.offset is None:
            self.fail(place, f"the joint {joint.name} has no OFFSET")
        if joint.channels is None:
            joint.channels = ()


def parse_header(label: str, text: str) -> tuple[Skeleton, Layout, list[Any]]:
    """``(skeleton, layout, notes)`` of a hierarchy's text; ``label`` names the file in messages."""
    parser = _Parser(label, text)
    parser.parse()
    joints, given, names = parser.joints, FreeNames("{} ({})"), []
    for joint in joints:
        name = given.give(joint.name)
        if name != joint.name:
            parser.notes.append(finding("same name", name=joint.name, told=name))
        names.append(name)
    tips = np.array([j.tip if j.tip is not None else [np.nan] * 3 for j in joints])
    skeleton = Skeleton(
        tuple(names), np.array([j.parent for j in joints]), np.array([j.offset for j in joints]), tips=tips
    )
    return skeleton, Layout(tuple(j.name for j in joints), tuple(j.channels for j in joints)), parser.notes
