"""What a pairing makes of a clip on a rig, with its feet planted where the source's are: where that is wanted."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ..core.contacts.points import contact_points
from ..core.evaluator import EVALUATOR
from ..core.humanoid.volumes import volumes
from ..core.matching.stance import same_body
from ..core.transfer.hands import Holding, Side, arms_of
from ..core.transfer.limits import within_limits
from ..core.transfer.planting import legs_of, plant
from ..core.transfer.settings import AUTO, DIRECTIONS, ON, PLANTED, TOUCH
from ..core.travel.root import travelled

if TYPE_CHECKING:
    import numpy as np

    from ..core.clip import Clip
    from ..core.contacts.contact import Contacts
    from ..core.contacts.points import ContactPoint
    from ..core.humanoid.reading import Body
    from ..core.transfer.planting import Leg
    from .entry import Entry
    from .pairing import Pairing


def plants(pairing: Pairing) -> bool:
    """Whether the rig's feet are planted: as it is set, or by itself where its proportions are not the source's."""
    if pairing.settings.feet != AUTO:
        return pairing.settings.feet == PLANTED
    return not _same_body(pairing)


def _same_body(pairing: Pairing) -> bool:
    key = pairing.strings, pairing.source, pairing.target
    return EVALUATOR.of("same body", key, lambda: same_body(*key))


def hands_of(pairing: Pairing) -> str:
    """How the rig's hands follow (see core.transfer.settings), which by itself is as for feet."""
    if pairing.settings.hands != AUTO:
        return pairing.settings.hands
    return TOUCH if plants(pairing) else DIRECTIONS


def clears(pairing: Pairing) -> bool:
    """Whether arms are kept out of the body: as it is set, or by itself as for feet."""
    return plants(pairing) if pairing.settings.clear == AUTO else pairing.settings.clear == ON


def adapts(pairing: Pairing, rig: Entry) -> bool:
    """Whether anything is done beside carrying rotations over that a frame by itself does not tell."""
    return (
        plants(pairing)
        or hands_of(pairing) != DIRECTIONS
        or clears(pairing)
        or bool(rig.limits)
        or pairing.settings.travel.needs_first
    )


def result(pairing: Pairing, source: Entry, rig: Entry) -> Clip:
    """All of the source's motion on the rig, as it is to be; kept."""
    key = pairing, source, rig
    return EVALUATOR.of("result", key, lambda: _result(*key))


def known_result(pairing: Pairing, source: Entry, rig: Entry) -> Clip | None:
    """As ``result``, where that was worked out already."""
    return EVALUATOR.peek("result", (pairing, source, rig))  # type: ignore[no-any-return]


def _result(pairing: Pairing, source: Entry, rig: Entry) -> Clip:
    return travel(whole(pairing, source, rig), pairing)


def whole(pairing: Pairing, source: Entry, rig: Entry) -> Clip:
    """All of the source's motion on the rig, going where it goes; kept, whatever is set of its travel."""
    travels, clip = travelling(pairing), source.placed_clip

    def make() -> Clip:
        return carry(travels, source, rig, clip, source.contacts, free=free_result(travels, clip))

    return EVALUATOR.of("result that travels", (travels, source, rig), make)


def travel(clip: Clip, pairing: Pairing) -> Clip:
    """What a pairing made of a motion that goes where it goes, as it is to travel."""
    transfer = pairing.transfer
    return travelled(clip, transfer.hips, transfer.root, pairing.settings.travel)


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
    quick: bool = False,
) -> Clip:
    """The motion of the source's ``clip`` on the rig, its feet planted and its hands held where that is wanted.

    It goes where it goes: see ``travel``.

    ``clip``: of ``source``, or a part of it; ``contacts``: of that clip, in its frames. ``free``: what the travelling
    pairing's transfer makes of the clip, where that is known already. ``quick``: without a look at whether arms are in the body.
    """
    travels = travelling(pairing)
    if not adapts(travels, rig):
        return travels.transfer.run(clip, name)
    made = free if free is not None else travels.transfer.run(clip)
    made = held_back(made, pairing, rig)
    if plants(pairing):
        made = planted(made, travels, rig, contacts, made is not free)
    made = with_hands(made, clip, travels, source, rig, contacts, made is not free, not quick)
    made = held_back(made, pairing, rig)
    return replace(made, name=name or clip.name)


def held_back(clip: Clip, pairing: Pairing, rig: Entry) -> Clip:
    """``clip`` with the rig's joints within their limits."""
    if not rig.limits:
        return clip
    tied = {joint for run in _tied(pairing).values() for joint in run}
    return within_limits(clip, rig.limits, tied)


def travelling(pairing: Pairing) -> Pairing:
    """The pairing with motion that goes where it goes."""
    settings = pairing.settings.carried
    of = pairing.strings, pairing.source, pairing.target, pairing.stance, settings

    def make() -> Pairing:
        return pairing if settings == pairing.settings else replace(pairing, settings=settings)

    # The same object for all settings of travel, as long as there is a pairing that it is of.
    return EVALUATOR.of(
        "travelling pairing", (pairing,), lambda: EVALUATOR.of("pairing that travels", of, make, weak=True)
    )


def _tied_body(pairing: Pairing, rig: Entry) -> Body | None:
    """The rig's body, with its parts as they are tied; the same object for strings that tie the same joints."""
    body = rig.metric_body
    if body is None:
        return None
    tied = _tied(pairing)
    others = tuple((part, run) for part, run in tied.items() if body.parts.get(part) != run)
    if not others:
        return body
    return EVALUATOR.of("tied body", (body, others), lambda: replace(body, parts={**body.parts, **dict(others)}))


def _tied(pairing: Pairing) -> dict[str, tuple[int, ...]]:
    return {s.part: tuple(pairing.target.index[n] for n in s.target) for s in pairing.strings}


def rig_points(pairing: Pairing, rig: Entry) -> tuple[ContactPoint, ...]:
    """The points of a rig that touch things, as it is tied; none where it has no readable body."""
    return contact_points(pairing.target, _tied_body(pairing, rig), rig.placed_character)


def rig_legs(pairing: Pairing, rig: Entry) -> tuple[Leg, ...]:
    """The rig's legs as they are tied; none where the rig has no readable body."""
    body, skeleton = _tied_body(pairing, rig), pairing.target
    if body is None:
        return ()
    points = rig_points(pairing, rig)

    def make() -> tuple[Leg, ...]:
        return legs_of(skeleton, body.parts, {p.name: p for p in points}, body.forward, body.up)

    return EVALUATOR.of("rig's legs", (skeleton, body, points), make)


def planted(clip: Clip, pairing: Pairing, rig: Entry, contacts: Contacts, fresh: bool = False) -> Clip:
    """``clip``, as the transfer made it, with its feet planted where ``contacts`` (in its frames) say so.

    ``fresh``: nobody else has ``clip``.
    """
    legs = rig_legs(pairing, rig)
    hips = next((s for s in pairing.strings if s.part == "hips"), None)
    if not legs or hips is None or not contacts.found:
        return clip
    return plant(clip, legs, pairing.target.index[hips.target[0]], contacts, level=not _same_body(pairing), fresh=fresh)


def _sides(pairing: Pairing, source: Entry, rig: Entry) -> tuple[Side, Side] | None:
    """What is known of the arms of source and rig; None where either has no readable body, or no arms."""
    body, own = rig.metric_body, source.metric_body
    if body is None or own is None:
        return None
    key = pairing, own, source.placed_character, body, rig.placed_character
    sides = EVALUATOR.of("arms", key, lambda: _made_sides(pairing, source, rig))
    return sides if all(side.arms for side in sides) else None


def _made_sides(pairing: Pairing, source: Entry, rig: Entry) -> tuple[Side, Side]:
    own, tied = source.metric_body, _tied_body(pairing, rig)
    assert own is not None and tied is not None  # see _sides
    made = []
    for skeleton, body, character, reference in (
        (pairing.source, own, source.placed_character, pairing.transfer.references[0]),
        (pairing.target, tied, rig.placed_character, pairing.transfer.references[1]),
    ):
        points = contact_points(skeleton, body, character)
        arms = arms_of(skeleton, body.parts, {p.name: p for p in points}, body.forward)
        made.append(Side(arms, volumes(skeleton, body, character), reference, body.stature))
    return made[0], made[1]


def _holding(clip: Clip, own: Clip, pairing: Pairing, source: Entry, rig: Entry) -> Holding | None:
    sides = _sides(pairing, source, rig)
    return None if sides is None or clip.frames < 3 else Holding(clip, own, pairing.transfer, *sides)


def with_hands(
    clip: Clip,
    own: Clip,
    pairing: Pairing,
    source: Entry,
    rig: Entry,
    contacts: Contacts,
    fresh: bool = False,
    look: bool = True,
) -> Clip:
    """``clip`` on the rig with its hands held and its arms out of its body; ``own``: the source's clip of these frames.

    ``fresh``: nobody else has ``clip``. ``look``: whether arms are in the body.
    """
    mode, clear = hands_of(pairing), look and clears(pairing)
    holding = _holding(clip, own, pairing, source, rig) if mode != DIRECTIONS or clear else None
    if holding is None:
        return clip
    shifts, fixed = holding.shifts(replace(pairing.settings, hands=mode), contacts)
    return holding.moved(*(holding.cleared(shifts, fixed) if clear else (shifts, {})), fresh)


def arm_depths(clip: Clip, own: Clip, pairing: Pairing, source: Entry, rig: Entry) -> dict[str, np.ndarray]:
    """How deep each arm of a motion on the rig is in the body, deeper than the source's: ``{side: (frames,)}``, metres."""
    holding = _holding(clip, own, pairing, source, rig)
    return {} if holding is None else holding.depth()
