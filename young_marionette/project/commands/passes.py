"""Passes over baked clips, and presets of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from ...core.errors import InputError
from ...core.filters.methods import Spikes
from ...core.passes.adjusting import Adjust
from ...core.passes.difference import Difference
from ...core.passes.edits import Retime
from ...core.passes.keys import Keys
from ...core.passes.mirroring import Mirror
from ...core.passes.stack import Method, Pass, length
from ...core.passes.timing import Time
from ...core.thinning.settings import Thin
from ..bakes import Bake
from ..entry import new_id
from ..passes import Preset

if TYPE_CHECKING:
    from ..document import State


MOST = 1_000_000  # frames of a result


@dataclass(frozen=True)
class AddPass:
    """Lay a pass over a baked clip, above all others or ``at`` a place among them (0: the first one)."""

    bake: str
    one: Pass
    at: int | None = None
    label: str = "add a pass"

    def run(self, state: State) -> State:
        one = _sound(self.one, bake_of(state, self.bake))
        return _with_passes(state, self.bake, lambda old: _put(old, one, len(old) if self.at is None else self.at))


@dataclass(frozen=True)
class SetPass:
    """Put a pass in place of the one with its id."""

    bake: str
    one: Pass
    label: str = "change a pass"

    def run(self, state: State) -> State:
        one = _sound(self.one, bake_of(state, self.bake))

        def change(old: tuple[Pass, ...]) -> tuple[Pass, ...]:
            _find(old, one.id)
            return tuple(one if p.id == one.id else p for p in old)

        return _with_passes(state, self.bake, change)


@dataclass(frozen=True)
class MovePass:
    """Move a pass by some places; positive: later, above others."""

    bake: str
    identifier: str
    places: int
    label: str = "move a pass"

    def run(self, state: State) -> State:
        def change(old: tuple[Pass, ...]) -> tuple[Pass, ...]:
            at = _find(old, self.identifier)
            to = min(max(at + self.places, 0), len(old) - 1)
            return _put((*old[:at], *old[at + 1 :]), old[at], to)

        return _with_passes(state, self.bake, change)


@dataclass(frozen=True)
class RemovePass:
    """Take a pass away."""

    bake: str
    identifier: str
    label: str = "remove a pass"

    def run(self, state: State) -> State:
        def change(old: tuple[Pass, ...]) -> tuple[Pass, ...]:
            at = _find(old, self.identifier)
            return (*old[:at], *old[at + 1 :])

        return _with_passes(state, self.bake, change)


@dataclass(frozen=True)
class MergePasses:
    """Make what comes out of a pass the baked motion itself: it and all passes beneath it are gone, what is above them stays."""

    bake: str
    identifier: str
    label: str = "merge passes"

    def run(self, state: State) -> State:
        bake = bake_of(state, self.bake)
        count = _find(bake.passes, self.identifier) + 1
        merged = [one for one in bake.passes[:count] if one.on]
        stage = bake.passed.stage(len(merged))
        rest = bake.passes[count:]
        if stage.keyed is not None:
            # Keys stay keys.
            rest = (Pass(new_id(), Keys(stage.keyed)), *rest)
        # What is merged can't be made anew from the source: baking again would bring back what was there before.
        return state.with_entry(replace(bake, dense=stage.clip, contacts=stage.contacts, passes=rest, digest=""))


@dataclass(frozen=True)
class PassAlone:
    """Switch all other passes of a baked clip off; where they are off already, on again."""

    bake: str
    identifier: str
    label: str = "show a pass alone"

    def run(self, state: State) -> State:
        def change(old: tuple[Pass, ...]) -> tuple[Pass, ...]:
            own = old[_find(old, self.identifier)]
            others = any(one.on for one in old if one is not own)
            return tuple(replace(one, on=one is own or not others) for one in old)

        return _with_passes(state, self.bake, change)


@dataclass(frozen=True)
class UsePreset:
    """Lay the passes of a preset over some baked clips: above what they have, or ``instead`` of it."""

    preset: Preset
    bakes: tuple[str, ...]
    instead: bool = True
    label: str = "use a preset"

    def run(self, state: State) -> State:
        for bake in self.bakes:
            made = tuple(replace(one, id=new_id()) for one in self.preset.passes)
            below = () if self.instead else bake_of(state, bake).passes
            state = _with_passes(state, bake, lambda _old, passes=(*below, *made): passes)  # type: ignore[misc]
        return state


@dataclass(frozen=True)
class SetKeys:
    """Keys of a baked clip as they were edited: kept by value on top of all its passes."""

    bake: str
    method: Keys
    label: str = "edit keys"

    def run(self, state: State) -> State:
        def change(old: tuple[Pass, ...]) -> tuple[Pass, ...]:
            on = [one for one in old if one.on]
            if on and on[-1].keys is not None:
                return tuple(replace(one, method=self.method) if one.id == on[-1].id else one for one in old)
            return (*old, Pass(new_id(), self.method))

        return _with_passes(state, self.bake, change)


@dataclass(frozen=True)
class KeepPreset:
    """Keep the passes of a baked clip in the project as a preset; one of that name is replaced.

    Frames and kept spikes are those of this clip alone, and are left out.
    """

    bake: str
    name: str
    label: str = "keep a preset"

    def run(self, state: State) -> State:
        preset = preset_of(bake_of(state, self.bake), self.name)
        return replace(state, presets=(*(p for p in state.presets if p.name != preset.name), preset))


@dataclass(frozen=True)
class RemovePreset:
    """Take a preset out of the project."""

    name: str
    label: str = "remove a preset"

    def run(self, state: State) -> State:
        return replace(state, presets=tuple(p for p in state.presets if p.name != self.name))


def preset_of(bake: Bake, name: str) -> Preset:
    """The passes of a baked clip as a preset; InputError without a name or passes."""
    if not name.strip():
        raise InputError("A preset needs a name.")
    if not bake.passes:
        raise InputError(f"{bake.name} has no passes that could be kept.")
    passes = tuple(
        replace(one, frames=None, method=_anywhere(one))
        for one in bake.passes
        if one.keys is None and not isinstance(one.method, Difference)
    )
    if not passes:
        raise InputError("Keys that were edited by hand belong to their clip alone; there is nothing else to keep.")
    return Preset(name.strip()[:200], passes)


def _anywhere(one: Pass) -> Method:
    if isinstance(one.method, Thin):
        anywhere = tuple(e for e in one.method.emphases if e.frames is None)
        return replace(one.method, emphases=anywhere, forced=(), barred=())
    return replace(one.method, kept=()) if isinstance(one.method, Spikes) else one.method


def _sound(one: Pass, bake: Bake) -> Pass:
    if one.frames is not None and one.frames[0] > one.frames[1]:
        raise InputError("The last frame of a range comes before its first one.")
    if isinstance(one.method, Retime | Thin | Time):
        one.method.check()
    if isinstance(one.method, Adjust | Mirror):
        one.method.check(bake.passed.bones(bake.dense), bake.passed.limbs)
    if isinstance(one.method, Difference):
        one.method.check(bake.dense)
    if not one.channels:
        raise InputError("Choose rotations, positions, morphs, or several of them.")
    return one


def bake_of(state: State, identifier: str) -> Bake:
    """The baked clip with an id; InputError where it is not in the library any more."""
    bake = state.entry(identifier)
    if not isinstance(bake, Bake):
        raise InputError("This baked clip is not in the library any more.")
    return bake


def _find(passes: tuple[Pass, ...], identifier: str) -> int:
    for i, one in enumerate(passes):
        if one.id == identifier:
            return i
    raise InputError("This pass is not there any more.")


def _put(passes: tuple[Pass, ...], one: Pass, at: int) -> tuple[Pass, ...]:
    return (*passes[:at], one, *passes[at:])


def _with_passes(state: State, identifier: str, change: Callable[[tuple[Pass, ...]], tuple[Pass, ...]]) -> State:
    bake = bake_of(state, identifier)
    passes = change(bake.passes)
    if passes == bake.passes:
        return state
    frames = length(passes, bake.dense.frames, bake.dense.rate)[0]
    if frames > MOST:
        raise InputError(f"{bake.name} would have {frames:,} frames; at most {MOST:,} are worked on.")
    return state.with_entry(replace(bake, passes=passes))
