"""Snags: what the program finds about the work. Each tells what, where, and what would mend it; see wording.snags."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ..core.contacts.points import HANDS
from ..core.evaluator import EVALUATOR
from ..core.figure.facts import NO_BODY
from ..core.findings import Finding, finding
from ..core.markers.faults import usual_distance
from ..core.markers.solving import LOOSE, is_likely_stature
from ..core.matching.families import differences, kinship
from ..core.matching.tying import mirror_part, missing
from ..core.passes.adjusting import Adjust
from ..core.passes.stack import Pass, Plant
from ..core.transfer.deviation import FLOAT, SINK, SLIDE, TOUCHING
from ..core.transfer.settings import FREE, ON, PLANTED, TOUCH
from .bakes import is_current
from .commands import (
    AdaptStringing,
    AddPass,
    AssignMarker,
    BakeAnew,
    Command,
    Correct,
    MatchStance,
    Remove,
    SetTouch,
    SetTransfer,
    SwapSides,
    TieAll,
)
from .deviation import known_deviation
from .entry import CLIP
from .markers.deciding import choices, undecided
from .markers.showing import unknown_segments
from .pairing import are_unlike, not_there, unlike
from .planting import clears, hands_of, plants
from .stringing import nearly_fits

if TYPE_CHECKING:
    from ..core.markers.solving import Solution
    from ..core.transfer.deviation import Limits
    from .bakes import Bake
    from .deviation import Deviation
    from .document import State
    from .entry import Entry
    from .markers.entry import MarkerEntry
    from .pairing import Pairing
    from .stringing.schema import StringingFile


_MAY_LACK = ("Toes", "neck", "spine", "Shoulder")  # which most marker sets say nothing of
_WIDER, _STEP, _WIDEST = "arms out", 3.0, 15.0  # degrees
_OUT_OF_REACH = 0.01  # metres
STEPS = ("gather", "string", "stance", "transfer", "refine", "deliver")


@dataclass(frozen=True)
class Snag:
    """``found``: what it is. ``step``: where it belongs. ``grave``: the work can't go on.

    ``entry``, ``part``: where it is. ``mend``: a command that mends it, or None.
    ``frame``: of the active clip.
    """

    step: str
    found: Finding
    grave: bool = False
    entry: str | None = None
    part: str | None = None
    mend: Command | None = None
    frame: int | None = None

    @property
    def code(self) -> str:
        return self.found.code


def find_snags(state: State) -> list[Snag]:
    """All snags of a state, in the order of the route."""
    pair, pairing = (state.source_entry, state.rig_entry), state.pairing
    clips = tuple(state.of_role(CLIP))
    snags = [snag for entry in state.entries for snag in _of_entry(entry, entry in pair)]
    snags += _asked("families", clips, lambda: list(_families(clips)))
    source, rig = pair
    if pairing is not None and source is not None and rig is not None:
        key = source.family, rig.family
        offers = pairing, source, rig, key, *state.stringings
        snags += _asked("offers", offers, lambda: list(_offered(pairing, source, rig, key, state.stringings)))
        snags += _asked("strings", (pairing, source, rig), lambda: list(_tied(pairing, source, rig)))
        snags += _asked("stance", (pairing, state.stance_tolerance), lambda: list(_stood(pairing, state)))
        deviation = known_deviation(pairing, source, rig)
        if deviation is not None:
            inputs = pairing, deviation, state.limits
            snags += _asked("feet", inputs, lambda: list(_off(*inputs)))
    for recording in state.recordings:
        solution = recording.known_solution
        if solution is not None:
            snags += _asked("markers", (recording, solution), lambda r=recording, s=solution: list(_solved(r, s)))
    for one in state.bakes:
        if not is_current(state, one):
            snags += _asked("outdated", (one,), lambda one=one: [_outdated(one)])
        snags += _of_passes(one, state.limits)
    return snags


def _of_passes(one: Bake, limits: Limits) -> list[Snag]:
    """What passes did to a baked clip, where that is known: feet that slide since, and controls that limbs do not reach."""
    if not any(p.on for p in one.passes):
        return []
    passed = one.passed
    changes = passed.known_changes(0)
    found: list[Snag] = []
    mend: AddPass | None
    slides = changes.slides if changes is not None else (0.0, 0.0)
    on = [p for p in one.passes if p.on]
    if slides[1] > max(limits.slide, slides[0]) and on[-1].keys is None and not isinstance(on[-1].method, Plant):
        values = {"name": one.name, "before": slides[0], "metres": slides[1]}
        mend = AddPass(one.id, Pass(f"planted-{len(one.passes)}-{one.id}", Plant()), None, "plant what slides")
        found.append(Snag("refine", finding("slides since", **values), entry=one.id, mend=mend))
    far = {limb: metres for limb, metres in passed.known_reach().items() if metres.max(initial=0.0) > _OUT_OF_REACH}
    if far:
        limb = max(far, key=lambda name: float(far[name].max()))
        at = np.flatnonzero(far[limb] > _OUT_OF_REACH)
        metres = float(far[limb].max())
        values = {"name": one.name, "limb": limb, "metres": metres, "first": int(at[0]), "last": int(at[-1])}
        lower = Adjust(hips=-round(metres + 0.005, 3)) if limb.endswith("leg") else None
        mend = (
            AddPass(one.id, Pass(f"lowered-{len(one.passes)}-{one.id}", lower, keep=False), None, "lower the hips")
            if lower
            else None
        )
        found.append(
            Snag("refine", finding("out of reach", **values), entry=one.id, mend=mend, frame=int(far[limb].argmax()))
        )
    return found


def _asked(what: str, inputs: tuple[Any, ...], make: Callable[..., Any]) -> list[Snag]:
    """Snags of a part of the work: looked for anew only where that part changed."""
    return EVALUATOR.of(f"snags: {what}", inputs, make)


def _of_entry(entry: Entry, active: bool) -> list[Snag]:
    return _asked("entry", (entry, active), lambda: list(_gathered(entry, active)))


def _gathered(entry: Entry, active: bool) -> Iterator[Snag]:
    if entry.figure.body is None:
        shape = next(odd.code for odd in entry.figure.oddities if odd.code in NO_BODY)
        yield Snag("gather", finding("entry", name=entry.name, odd=finding(shape)), active, entry.id)
        return
    for odd in entry.oddities:
        # A rig of one frame that stands anywhere is as it should be.
        if entry.role == CLIP or odd.code not in ("short", "floor"):
            odd_entry = finding("entry", name=entry.name, odd=odd)
            yield Snag("gather", odd_entry, entry=entry.id, mend=_mend(entry, odd))


def _solved(entry: MarkerEntry, solution: Solution) -> Iterator[Snag]:
    """Faults that nothing was decided about, what no marker tells of, and markers that fit nowhere."""
    for fault in undecided(entry, solution):
        found = finding("marker fault", name=entry.name, fault=fault, labels=entry.recording.labels)
        _, mend = choices(entry, fault)[0]
        yield Snag("gather", found, entry=entry.id, mend=mend, frame=fault.first)
    lost = [name for name in unknown_segments(solution) if not name.endswith(_MAY_LACK)]
    if lost:
        yield Snag("gather", finding("segments unknown", name=entry.name, segments=lost), entry=entry.id)
    if not is_likely_stature(solution.figure):
        size = finding("unlikely stature", name=entry.name, metres=float(solution.figure.stature))
        yield Snag("gather", size, entry=entry.id)
    labels = entry.recording.labels
    for n, metres in enumerate(usual_distance(solution.off)):
        if metres > LOOSE:
            label = labels[int(solution.on[n])]
            mend = AssignMarker(entry.id, label, None)
            yield Snag(
                "gather",
                finding("marker loose", name=entry.name, marker=label, metres=float(metres)),
                entry=entry.id,
                mend=mend,
            )


def _outdated(one: Bake) -> Snag:
    return Snag("refine", finding("outdated", name=one.name), entry=one.id, mend=BakeAnew(one.id))


def _families(clips: tuple[Entry, ...]) -> Iterator[Snag]:
    """Clips whose skeleton differs a little from that of a larger family: found before a batch, not in it."""
    families = {}
    for entry in clips:
        families.setdefault(entry.family, []).append(entry)
    ranked = sorted(families.values(), key=len, reverse=True)
    for i, members in enumerate(ranked):
        kin = next(
            (k[0] for k in ranked[:i] if len(k) > len(members) and kinship(k[0].skeleton, members[0].skeleton) > 0.6),
            None,
        )
        if kin is not None:
            apart = differences(kin.skeleton, members[0].skeleton)
            for entry in members:
                yield Snag("gather", finding("family", name=entry.name, kin=kin.name, apart=apart), entry=entry.id)


def _offered(
    pairing: Pairing, source: Entry, rig: Entry, key: tuple[str, ...], stringings: tuple[StringingFile, ...]
) -> Iterator[Snag]:
    """Stringings of the library that nearly fit the active pair, which has none of its own yet."""
    if pairing.origin.kind != "tied" or any(s.by_hand for s in pairing.strings):
        return
    for file in stringings:
        exact = (file.source.fingerprint, file.target.fingerprint) == key
        if not exact and nearly_fits(file, source, rig):
            yield Snag("string", finding("stringing nearly fits", name=file.name), mend=AdaptStringing(file))


def _mend(entry: Entry, odd: Finding) -> Correct | Remove | None:
    """What mends an oddity at a click, or None."""
    if odd.code in ("short", "collapsed"):
        return Remove(entry.id)
    if odd.code == "floor":
        return Correct(entry.id, (("lift", (entry.correction.lift or 0.0) - odd["metres"]),))
    return None


def _tied(pairing: Pairing, source: Entry, rig: Entry) -> Iterator[Snag]:
    if not pairing.strings and are_unlike(source, rig):
        yield Snag("string", unlike(source, rig), True)
    lacking = missing(pairing.strings, pairing.absent)
    gone = not_there(source, rig)
    for part in lacking:
        if part in gone:
            continue
        places = [e.name for e in (source, rig) if e.figure.body is None]
        mend = None if places else TieAll(only_untied=True)
        yield Snag("string", finding("no string", part=part, lacking=places), True, part=part, mend=mend)
    for entry in (source, rig):
        body = entry.figure.body
        parts = [part for part in lacking if body is not None and part in gone and part not in body.parts]
        if parts:
            yield Snag("string", finding("parts not there", name=entry.name, parts=parts), part=parts[0])
    for string in pairing.strings:
        if not string.sure:
            values = {"certainty": string.certainty, "source": string.source, "target": string.target}
            yield Snag("string", finding("guess", part=string.part, **values), part=string.part)
    yield from _crossed(pairing, source, rig)
    yield from _doubled(pairing)
    yield from _order(pairing)


def _crossed(pairing: Pairing, source: Entry, rig: Entry) -> Iterator[Snag]:
    """Strings between places that are unlike: left to right, bones of different parts, a bone on two strings, a run out of order."""
    bodies = source.figure.body, rig.figure.body
    if bodies[0] is None or bodies[1] is None:
        return
    places = [
        {skeleton.names[j]: part for part, run in body.parts.items() for j in run}
        for body, skeleton in ((bodies[0], pairing.source), (bodies[1], pairing.target))
    ]
    crossed = []
    for s in pairing.strings:
        source_part, target_part = places[0].get(s.source[0]), places[1].get(s.target[0])
        if source_part is None or target_part is None or source_part == target_part:
            continue
        if mirror_part(source_part) == target_part:
            crossed.append(s.part)
        elif not s.locked and source_part.split(" twist")[0] != target_part.split(" twist")[0]:
            ends = {
                "source": s.source[0],
                "target": s.target[0],
                "source_part": source_part,
                "target_part": target_part,
            }
            yield Snag("string", finding("different parts", part=s.part, **ends), part=s.part)
    if crossed:
        yield Snag("string", finding("sides swapped", parts=crossed), part=crossed[0], mend=SwapSides())


def _doubled(pairing: Pairing) -> Iterator[Snag]:
    """Source bones that are tied for two parts, and runs whose bones do not follow each other downwards."""
    used = {}
    for s in pairing.strings:
        if not s.part.endswith(" twist"):
            for name in s.source:
                used.setdefault(name, []).append(s.part)
        for skeleton, run in ((pairing.source, s.source), (pairing.target, s.target)):
            joints = [skeleton.index[n] for n in run]
            if not s.part.endswith(" twist") and any(
                a not in skeleton.ancestors(b) for a, b in itertools.pairwise(joints)
            ):
                yield Snag("string", finding("run out of order", part=s.part, bones=run), part=s.part)
    for name, parts in used.items():
        if len(parts) > 1:
            yield Snag("string", finding("tied twice", bone=name, parts=parts), part=parts[1])


def _order(pairing: Pairing) -> Iterator[Snag]:
    """Strings that stand against the hierarchy: a bone above another drives one below the other's."""
    leads = [
        (s.part, pairing.source.index[s.source[0]], pairing.target.index[s.target[0]])
        for s in pairing.strings
        if not s.part.endswith(" twist")
    ]
    above = {part: (set(pairing.source.ancestors(a)), set(pairing.target.ancestors(b))) for part, a, b in leads}
    for part, a, _b in leads:
        for other, _c, d in leads:
            if a in above[other][0] and d in above[part][1]:
                yield Snag("string", finding("wrong order", part=part, other=other), part=part)


def _stood(pairing: Pairing, state: State) -> Iterator[Snag]:
    for limb in pairing.limbs:
        if limb.angle > state.stance_tolerance:
            off = finding("stance off", part=limb.part, degrees=limb.angle)
            yield Snag("stance", off, part=limb.part, mend=MatchStance())


def _off(pairing: Pairing, deviation: Deviation, limits: Limits) -> Iterator[Snag]:
    """Feet of the live result that are off by more than they may: the worst stretch of each."""
    yield from _inside(pairing, deviation, limits)
    for before, after in deviation.worsened():
        feet = after.part not in HANDS and after.kind != TOUCHING
        if feet and after.worst > getattr(limits, after.kind):
            continue  # told below as what it is
        undo: Command | None = SetTransfer((("feet", FREE),)) if feet and plants(pairing) else None
        values = {"part": after.part, "before": before.worst, "metres": after.worst, "frame": after.at}
        worse = finding("worse than free", kind=after.kind, undone=undo is not None, **values)
        yield Snag("transfer", worse, part=after.part, mend=undo, frame=after.at)
    mend = None if plants(pairing) else SetTransfer((("feet", PLANTED),))
    for kind in (SLIDE, SINK, FLOAT):
        limit = getattr(limits, kind)
        for side in ("left", "right"):
            points = f"{side} heel", f"{side} toe", f"{side} foot"
            lanes = [lane for lane in deviation.after if lane.kind == kind and lane.part in points]
            stretches = [stretch for lane in lanes for stretch in lane.over(limit)]
            if not stretches:
                continue
            first, last, metres = max(stretches, key=lambda stretch: stretch[2])
            worst = max(lanes, key=lambda lane: lane.worst).at
            values = {"part": f"{side} foot", "metres": metres, "first": first, "last": last, "planted": mend is None}
            yield Snag(
                "transfer", finding("foot off", kind=kind, **values), part=f"{side} foot", mend=mend, frame=worst
            )


def _inside(pairing: Pairing, deviation: Deviation, limits: Limits) -> Iterator[Snag]:
    """Arms that are in the body where the source's are not, and hands that do not stay where they hold."""
    mend: Command | None = None if clears(pairing) else SetTransfer((("clear", ON),))
    wider = dict(pairing.settings.touches).get(_WIDER, 0.0)
    for lane in deviation.after:
        if lane.kind == TOUCHING and lane.worst > limits.touching:
            first, last, metres = max(lane.over(limits.touching), key=lambda stretch: stretch[2])
            values = {"part": lane.part, "metres": metres, "first": first, "last": last, "cleared": mend is None}
            if mend is None and wider < _WIDEST:
                mend = SetTouch(_WIDER, wider + _STEP)
            part = lane.part.replace(" arm", " forearm")
            yield Snag("transfer", finding("arm inside", **values), part=part, mend=mend, frame=lane.at)
        elif lane.kind == SLIDE and lane.part in HANDS and lane.worst > limits.slide:
            first, last, metres = max(lane.over(limits.slide), key=lambda stretch: stretch[2])
            held = hands_of(pairing) == TOUCH
            values = {"part": lane.part, "metres": metres, "first": first, "last": last, "held": held}
            hold = None if held else SetTransfer((("hands", TOUCH),))
            yield Snag("transfer", finding("hand off", **values), part=lane.part, mend=hold, frame=lane.at)


def route_states(state: State, snags: Sequence[Snag]) -> dict[str, str]:
    """For each step ``"untouched"``, ``"fine"`` or ``"snags"``."""
    touched = {
        "gather": bool(state.entries),
        "string": state.pairing is not None,
        "stance": state.pairing is not None,
        "transfer": state.pairing is not None and not any(s.grave for s in snags if s.step == "string"),
        "refine": bool(state.bakes),
        "deliver": bool(state.bakes),
    }
    with_snags = {s.step for s in snags}
    return {step: "snags" if step in with_snags else "fine" if touched[step] else "untouched" for step in STEPS}
