"""Snags: what the program finds about the work. Each says what, where, and what would mend it."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from ..core.evaluator import EVALUATOR
from ..core.matching.families import differences, kinship
from ..core.matching.tying import mirror_part, missing
from .bakes import is_current
from .commands import AdaptStringing, BakeAnew, Correct, MatchStance, Remove, SwapSides, TieAll
from .entry import CLIP
from .pairing import why_no_body
from .stringing import nearly_fits

STEPS = ("gather", "string", "stance", "transfer", "refine", "deliver")


@dataclass(frozen=True)
class Snag:
    """``step``: where it belongs. ``grave``: the work can't go on. ``mend``: a command that mends it, or None."""

    step: str
    text: str
    remedy: str
    grave: bool = False
    entry: str | None = None
    part: str | None = None
    mend: object = None
    mend_label: str = ""


def find_snags(state):
    """All snags of a state, in the order of the route."""
    pair, pairing = (state.source_entry, state.rig_entry), state.pairing
    clips = tuple(state.of_role(CLIP))
    found = [snag for entry in state.entries for snag in _of_entry(entry, entry in pair)]
    found += _asked("families", clips, lambda: list(_families(clips)))
    if pairing is not None:
        offers = pairing, *pair, state.key, *state.stringings
        found += _asked("offers", offers, lambda: list(_offered(pairing, *pair, state.key, state.stringings)))
        found += _asked("strings", (pairing, *pair), lambda: list(_tied(pairing, *pair)))
        found += _asked("stance", (pairing, state.stance_tolerance), lambda: list(_stood(pairing, state)))
    found += [_outdated(one) for one in state.bakes if not is_current(state, one)]
    return found


def _asked(what, inputs, make):
    """Snags of a part of the work: looked for anew only where that part changed."""
    return EVALUATOR.of(f"snags: {what}", inputs, make)


def _of_entry(entry, active):
    return _asked("entry", (entry, active), lambda: list(_gathered(entry, active)))


def _gathered(entry, active):
    if entry.figure.body is None:
        yield Snag(
            "gather",
            f"{entry.name}: {why_no_body(entry)}",
            "Use another file, or tie its bones by hand.",
            active,
            entry.id,
        )
        return
    for odd in entry.oddities:
        # A rig of one frame that stands anywhere is as it should be.
        if entry.role == CLIP or odd.kind not in ("short", "floor"):
            yield Snag(
                "gather",
                f"{entry.name}: {odd.text[0].lower() + odd.text[1:]}",
                odd.remedy,
                entry=entry.id,
                **_mend(entry, odd),
            )


def _outdated(one):
    return Snag(
        "refine",
        f"{one.name} is out of date: what it was baked from has changed.",
        "Rebake it, or keep it as it is.",
        entry=one.id,
        mend=BakeAnew(one.id),
        mend_label="Rebake",
    )


def _families(clips):
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
            told = (
                "; ".join(d.text for d in differences(kin.skeleton, members[0].skeleton))
                or "the same bones in another order"
            )
            for entry in members:
                yield Snag(
                    "gather",
                    f"{entry.name} differs from the family of {kin.name}: {told}.",
                    "It has its own strings: check them before you bake it with the others.",
                    entry=entry.id,
                )


def _offered(pairing, source, rig, key, stringings):
    """Stringings of the library that nearly fit the active pair, which has none of its own yet."""
    if pairing.origin.kind != "tied" or any(s.by_hand for s in pairing.strings):
        return
    for file in stringings:
        exact = (file.source.fingerprint, file.target.fingerprint) == key
        if not exact and nearly_fits(file, source, rig):
            yield Snag(
                "string",
                f"The stringing {file.name} was made for nearly the same two skeletons.",
                "Adapt it, to use what was tied there.",
                mend=AdaptStringing(file),
                mend_label="Adapt",
            )


def _mend(entry, odd):
    """What mends an oddity at a click, where something does."""
    if odd.kind in ("short", "collapsed"):
        return {"mend": Remove(entry.id), "mend_label": "Remove"}
    if odd.kind == "floor":
        return {
            "mend": Correct(entry.id, (("lift", (entry.correction.lift or 0.0) - odd.amount),)),
            "mend_label": "Put on the floor",
        }
    return {}


def _tied(pairing, source, rig):
    for part in missing(pairing.strings, pairing.absent):
        places = [e.name for e in (source, rig) if e.figure.body is None or part not in e.figure.body.parts]
        yield Snag(
            "string",
            f"The {part} has no string.",
            f"It was not found in {' and '.join(places)}; tie it by hand, or say that it is absent."
            if places
            else "Tie it on the board, let it be tied, or say that it is absent.",
            True,
            part=part,
            mend=None if places else TieAll(only_untied=True),
            mend_label="Tie",
        )
    for string in pairing.strings:
        if not string.sure:
            yield Snag(
                "string",
                f"The string of the {string.part} is a guess ({string.certainty:.0%}): "
                f"{', '.join(string.source)} to {', '.join(string.target)}.",
                "Look at it on the board; tie it by hand if it is right.",
                part=string.part,
            )
    yield from _crossed(pairing, source, rig)
    yield from _doubled(pairing)
    yield from _order(pairing)


def _crossed(pairing, source, rig):
    """Strings between places that are unlike: left to right, bones of different parts, a bone on two strings, a run out of order."""
    bodies = source.figure.body, rig.figure.body
    if None in bodies:
        return
    places = [
        {skeleton.names[j]: part for part, run in body.parts.items() for j in run}
        for body, skeleton in zip(bodies, (pairing.source, pairing.target))
    ]
    crossed = []
    for s in pairing.strings:
        here, there = places[0].get(s.source[0]), places[1].get(s.target[0])
        if here is None or there is None or here == there:
            continue
        if mirror_part(here) == there:
            crossed.append(s.part)
        elif not s.locked and here.split(" twist")[0] != there.split(" twist")[0]:
            yield Snag(
                "string",
                f"The string of the {s.part} joins different body parts: {s.source[0]} is the {here}, {s.target[0]} is the {there}.",
                "Tie it differently, or lock it if it is intended.",
                part=s.part,
            )
    if crossed:
        yield Snag(
            "string",
            f"Left and right are swapped: {', '.join(crossed[:3])}{' and more' if len(crossed) > 3 else ''}.",
            "Swap the sides.",
            part=crossed[0],
            mend=SwapSides(),
            mend_label="Swap",
        )


def _doubled(pairing):
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
                yield Snag(
                    "string",
                    f"The run of the {s.part} is out of order: {', '.join(run)}.",
                    "Tie it from the upper end to the lower.",
                    part=s.part,
                )
    for name, parts in used.items():
        if len(parts) > 1:
            yield Snag(
                "string",
                f"The bone {name} is tied for {len(parts)} parts: {', '.join(parts)}.",
                "Tie one of them to another bone.",
                part=parts[1],
            )


def _order(pairing):
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
                yield Snag(
                    "string",
                    f"The {part} and the {other} are tied in the wrong order: above in one skeleton, below in the other.",
                    "Swap their bones.",
                    part=part,
                )


def _stood(pairing, state):
    for limb in pairing.limbs:
        if limb.angle > state.stance_tolerance:
            yield Snag(
                "stance",
                f"The {limb.part} is {limb.angle:.0f}° off in the stance.",
                "Match the stance, or turn the bone.",
                part=limb.part,
                mend=MatchStance(),
                mend_label="Match",
            )


def route_states(state, snags):
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
