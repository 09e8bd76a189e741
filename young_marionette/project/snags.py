"""Snags: what the program finds about the work. Each says what, where, and what would mend it."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.tying import missing
from .commands import MatchStance, Remove, SetTransfer, TieAll
from .entry import BAKED

STEPS = ("gather", "string", "stance", "transfer", "refine", "deliver")
STANCE_TOLERANCE = 10.0


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
    return [*_gathered(state), *_tied(state), *_stood(state)]


def _gathered(state):
    for entry in state.of_role("clip", "rig"):
        active = entry.id in (state.source, state.rig)
        if entry.figure.body is None:
            yield Snag("gather", f"{entry.name}: no body with two legs can be seen.", "Use another file, or tie its bones by hand.",
                       active, entry.id)
            continue
        for odd in entry.oddities:
            # A rig of one frame that stands anywhere is as it should be.
            if entry.role == "clip" or odd.kind not in ("short", "floor"):
                yield Snag("gather", f"{entry.name}: {odd.text[0].lower() + odd.text[1:]}", odd.remedy, entry=entry.id, **_mend(state, entry, odd))


def _mend(state, entry, odd):
    """What mends an oddity at a click, where something does."""
    if odd.kind == "short":
        return {"mend": Remove(entry.id), "mend_label": "Take out"}
    pairing = state.pairing
    if odd.kind == "floor" and entry.id == state.source and pairing is not None and "hips" not in missing(pairing.strings):
        lower = -odd.amount * pairing.transfer.scale
        return {"mend": SetTransfer((("height_offset", lower),)), "mend_label": "Put down" if lower < 0 else "Lift"}
    return {}


def _tied(state):
    pairing = state.pairing
    if pairing is None:
        return
    for part in missing(pairing.strings):
        places = [e.name for e in (state.source_entry, state.rig_entry) if e.figure.body is None or part not in e.figure.body.parts]
        yield Snag("string", f"The {part} has no string.",
                   f"It was not found in {' and '.join(places)}; tie it by hand." if places else "Tie it on the board, or let it be tied.",
                   True, part=part, mend=None if places else TieAll(only_untied=True), mend_label="Tie")
    for string in pairing.strings:
        if not string.sure:
            yield Snag("string", f"The string of the {string.part} is a guess ({string.certainty:.0%}): "
                       f"{', '.join(string.source)} to {', '.join(string.target)}.", "Look at it on the board; tie it by hand if it is right.",
                       part=string.part)
    yield from _order(pairing)


def _order(pairing):
    """Strings that stand against the hierarchy: a bone above another drives one below the other's."""
    leads = [(s.part, pairing.source.index[s.source[0]], pairing.target.index[s.target[0]]) for s in pairing.strings
             if not s.part.endswith(" twist")]
    above = {part: (set(pairing.source.ancestors(a)), set(pairing.target.ancestors(b))) for part, a, b in leads}
    for part, a, b in leads:
        for other, c, d in leads:
            if a in above[other][0] and d in above[part][1]:
                yield Snag("string", f"The {part} and the {other} are tied in the wrong order: above in one skeleton, below in the other.",
                           "Exchange their bones.", part=part)


def _stood(state):
    pairing = state.pairing
    if pairing is None:
        return
    for limb in pairing.limbs:
        if limb.angle > STANCE_TOLERANCE:
            yield Snag("stance", f"The {limb.part} stands {limb.angle:.0f}° apart in the stance.", "Match the stance, or turn the bone.",
                       part=limb.part, mend=MatchStance(), mend_label="Match")


def route_states(state, snags):
    """For each step ``"untouched"``, ``"fine"`` or ``"snags"``."""
    touched = {"gather": bool(state.entries), "string": state.pairing is not None, "stance": state.pairing is not None,
               "transfer": state.pairing is not None and not any(s.grave for s in snags if s.step == "string"),
               "refine": bool(state.of_role(BAKED)), "deliver": bool(state.of_role(BAKED))}
    with_snags = {s.step for s in snags}
    return {step: "snags" if step in with_snags else "fine" if touched[step] else "untouched" for step in STEPS}
