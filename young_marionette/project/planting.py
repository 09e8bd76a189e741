"""What a pairing makes of a clip on a rig, with its feet planted where the source's are: where that is wanted."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from ..core.contacts.points import contact_points
from ..core.evaluator import EVALUATOR
from ..core.humanoid.volumes import volumes
from ..core.matching.stance import same_body
from ..core.resample import thinned
from ..core.transfer.clearing import RATE as CLEARING_RATE
from ..core.transfer.clearing import Clearing, full
from ..core.transfer.hands import Holding, Side, arms_of
from ..core.transfer.planting import legs_of, plant
from ..core.transfer.settings import AUTO, DIRECTIONS, ON, PLANTED, TOUCH

if TYPE_CHECKING:
    import numpy as np

    from ..core.character.meshes import Character
    from ..core.clip import Clip
    from ..core.contacts.contact import Contacts
    from ..core.contacts.points import ContactPoint
    from ..core.humanoid.reading import Body
    from ..core.transfer.hands import Arm
    from ..core.transfer.limbs import Limb
    from ..core.transfer.planting import Leg
    from .entry import Entry
    from .pairing import Pairing


def plants(pairing: Pairing) -> bool:
    """Whether the rig's feet are planted: as it is set, or by itself where its proportions are not the source's."""
    if pairing.settings.feet != AUTO:
        return pairing.settings.feet == PLANTED
    key = pairing.strings, pairing.source, pairing.target
    return not EVALUATOR.of("same body", key, lambda: same_body(*key))


def hands_of(pairing: Pairing) -> str:
    """How the rig's hands follow (see core.transfer.settings), which by itself is as for feet."""
    if pairing.settings.hands != AUTO:
        return pairing.settings.hands
    return TOUCH if plants(pairing) else DIRECTIONS


def clears(pairing: Pairing) -> bool:
    """Whether arms are kept out of the body: as it is set, or by itself as for feet."""
    return plants(pairing) if pairing.settings.clear == AUTO else pairing.settings.clear == ON


def adapts(pairing: Pairing) -> bool:
    """Whether anything is done beside carrying rotations over, so that a frame depends on what lies around it."""
    return plants(pairing) or hands_of(pairing) != DIRECTIONS or clears(pairing)


def result(pairing: Pairing, source: Entry, rig: Entry) -> Clip:
    """All of the source's motion on the rig, as it is to be; kept."""
    key = pairing, source, rig
    return EVALUATOR.of("result", key, lambda: _result(*key))


def known_result(pairing: Pairing, source: Entry, rig: Entry) -> Clip | None:
    """As ``result``, where that was worked out already."""
    return EVALUATOR.peek("result", (pairing, source, rig))  # type: ignore[no-any-return]


def _result(pairing: Pairing, source: Entry, rig: Entry) -> Clip:
    clip = source.placed_clip
    return carry(pairing, source, rig, clip, source.contacts, free=free_result(travelling(pairing), clip))


def free_result(pairing: Pairing, clip: Clip) -> Clip:
    """What the transfer alone makes of a clip; kept, so that other contacts are quickly planted."""
    return EVALUATOR.of("free result", (pairing, clip), lambda: pairing.transfer.run(clip))


def carry(
    pairing: Pairing,
    source: Entry,
    rig: Entry,
    clip: Clip,
    contacts: Contacts,
    name: str | None = None,
    free: Clip | None = None,
) -> Clip:
    """The motion of the source's ``clip`` on the rig, its feet planted and its hands held where that is wanted.

    ``clip``: of ``source``, or a part of it; ``contacts``: of that clip, in its frames. ``free``: what the travelling
    pairing's transfer makes of the clip, where that is known already.
    """
    if not adapts(pairing):
        return pairing.transfer.run(clip, name)
    travels = travelling(pairing)
    free = free if free is not None else travels.transfer.run(clip)
    made = planted(free, travels, rig, contacts) if plants(pairing) else free
    made = with_hands(made, clip, travels, source, rig, contacts)
    if pairing.settings.in_place:
        # What stays in place on a moving floor stands as it does where it travels.
        still = pairing.transfer.run(clip)
        made = replace(made, translations=still.translations + (made.translations - free.translations))
    return replace(made, name=name or clip.name)


def travelling(pairing: Pairing) -> Pairing:
    """The pairing with motion that goes where it goes, not in place."""
    if not pairing.settings.in_place:
        return pairing
    settings = replace(pairing.settings, in_place=False)
    return EVALUATOR.of("pairing that travels", (pairing,), lambda: replace(pairing, settings=settings))


def rig_legs(pairing: Pairing, rig: Entry) -> tuple[Leg, ...]:
    """The rig's legs as they are tied; none where the rig has no readable body."""
    if rig.metric_body is None:
        return ()
    key = pairing.strings, pairing.target, rig.metric_body, rig.placed_character
    return EVALUATOR.of("rig's legs", key, lambda: _legs(pairing, rig))


def rig_points(pairing: Pairing, rig: Entry) -> tuple[ContactPoint, ...]:
    """The points of a rig that touch things, as it is tied; none where it has no readable body."""
    body = rig.metric_body
    if body is None:
        return ()
    key = pairing.strings, pairing.target, body, rig.placed_character
    return EVALUATOR.of("rig's points", key, lambda: _points(pairing, body, rig.placed_character))


def _points(pairing: Pairing, body: Body, character: Character | None) -> tuple[ContactPoint, ...]:
    return contact_points(pairing.target, replace(body, parts={**body.parts, **_tied(pairing)}), character)


def _tied(pairing: Pairing) -> dict[str, tuple[int, ...]]:
    return {s.part: tuple(pairing.target.index[n] for n in s.target) for s in pairing.strings}


def _legs(pairing: Pairing, rig: Entry) -> tuple[Leg, ...]:
    body = rig.metric_body
    assert body is not None  # see rig_legs
    points = {p.name: p for p in rig_points(pairing, rig)}
    return legs_of(pairing.target, {**body.parts, **_tied(pairing)}, points, body.forward)


def planted(clip: Clip, pairing: Pairing, rig: Entry, contacts: Contacts) -> Clip:
    """``clip``, as the transfer made it, with its feet planted where ``contacts`` (in its frames) say so."""
    legs = rig_legs(pairing, rig)
    hips = next((s for s in pairing.strings if s.part == "hips"), None)
    if not legs or hips is None or not contacts.found:
        return clip
    return plant(clip, legs, pairing.target.index[hips.target[0]], contacts)


@dataclass(frozen=True, eq=False)
class _Arms:
    """Arms of the rig, and of the source by side of the body, its palms, and what both have volumes of."""

    rigs: tuple[Arm, ...]
    own: dict[str, Limb]
    palms: dict[str, ContactPoint]
    sides: tuple[Side, Side]
    statures: tuple[float, float]


def _arms(pairing: Pairing, source: Entry, rig: Entry) -> _Arms | None:
    body, own = rig.metric_body, source.metric_body
    if body is None or own is None:
        return None
    key = pairing, own, source.placed_character, body, rig.placed_character
    return EVALUATOR.of("arms", key, lambda: _made_arms(pairing, source, rig, own, body))


def _made_arms(pairing: Pairing, source: Entry, rig: Entry, own: Body, body: Body) -> _Arms:
    tied = replace(body, parts={**body.parts, **_tied(pairing)})
    points = {p.name: p for p in rig_points(pairing, rig)}
    own_points = {p.name: p for p in contact_points(pairing.source, own, source.placed_character)}
    limbs = {a.side: a.limb for a in arms_of(pairing.source, own.parts, own_points, own.forward)}
    references = pairing.transfer.references
    sides = (
        Side(volumes(pairing.source, own, source.placed_character), references[0]),
        Side(volumes(pairing.target, tied, rig.placed_character), references[1]),
    )
    arms = tuple(a for a in arms_of(pairing.target, tied.parts, points, body.forward) if a.side in limbs)
    palms = {side: own_points[f"{side} hand"] for side in limbs}
    return _Arms(arms, limbs, palms, sides, (own.stature, body.stature))


def with_hands(clip: Clip, own: Clip, pairing: Pairing, source: Entry, rig: Entry, contacts: Contacts) -> Clip:
    """``clip`` on the rig with its hands held and its arms out of its body; ``own``: the source's clip of these frames."""
    mode, clear = hands_of(pairing), clears(pairing)
    arms = _arms(pairing, source, rig) if mode != DIRECTIONS or clear else None
    if arms is None or not arms.rigs or clip.frames < 3:
        return clip
    holding = Holding(clip, own, pairing.transfer, arms.rigs, arms.palms, arms.sides)
    shifts, fixed = holding.shifts(mode, contacts, pairing.settings.hand_weight)
    swings: dict[str, np.ndarray] = {}
    if clear:
        slow, step = thinned(holding.moved(shifts, {}), CLEARING_RATE)
        more, swings = clearing(arms, own).cleared(
            slow, arms.rigs, {side: mask[::step] for side, mask in fixed.items()}
        )
        shifts = {**shifts, **{s: shifts.get(s, 0.0) + full(v, step, clip.frames) for s, v in more.items()}}
        swings = {s: full(v, step, clip.frames) for s, v in swings.items()}
    return holding.moved(shifts, swings)


def clearing(arms: _Arms, own: Clip) -> Clearing:
    """What the arms of a source's clip keep out of."""
    slow, _ = thinned(own, CLEARING_RATE)
    return Clearing(slow, arms.own, arms.palms, arms.sides, arms.statures)


def arm_depths(clip: Clip, own: Clip, pairing: Pairing, source: Entry, rig: Entry) -> dict[str, np.ndarray]:
    """How deep each arm of a motion on the rig is in the body, deeper than the source's: ``{side: (frames,)}``, metres."""
    arms = _arms(pairing, source, rig)
    if arms is None or not arms.rigs or clip.frames < 3:
        return {}
    slow, step = thinned(clip, CLEARING_RATE)
    return {s: full(d, step, clip.frames) for s, d in clearing(arms, own).depth(slow, arms.rigs).items()}
