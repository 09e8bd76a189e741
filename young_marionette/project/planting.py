"""What a pairing makes of a clip on a rig, with its feet planted where the source's are: where that is wanted."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from ..core.contacts.points import contact_points
from ..core.evaluator import EVALUATOR
from ..core.matching.stance import same_body
from ..core.transfer.planting import legs_of, plant
from ..core.transfer.settings import AUTO, PLANTED

if TYPE_CHECKING:
    from ..core.character.meshes import Character
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
    key = pairing.strings, pairing.source, pairing.target
    return not EVALUATOR.of("same body", key, lambda: same_body(*key))


def result(pairing: Pairing, source: Entry, rig: Entry) -> Clip:
    """All of the source's motion on the rig, planted where it is to be; kept."""
    key = pairing, source, rig
    return EVALUATOR.of("result", key, lambda: _result(*key))


def known_result(pairing: Pairing, source: Entry, rig: Entry) -> Clip | None:
    """As ``result``, where that was worked out already."""
    return EVALUATOR.peek("result", (pairing, source, rig))  # type: ignore[no-any-return]


def _result(pairing: Pairing, source: Entry, rig: Entry) -> Clip:
    clip = source.placed_clip
    return carry(pairing, rig, clip, source.contacts, free=free_result(travelling(pairing), clip))


def free_result(pairing: Pairing, clip: Clip) -> Clip:
    """What the transfer makes of a clip; kept, so that other contacts are quickly planted."""
    return EVALUATOR.of("free result", (pairing, clip), lambda: pairing.transfer.run(clip))


def carry(
    pairing: Pairing,
    rig: Entry,
    clip: Clip,
    contacts: Contacts | None,
    name: str | None = None,
    free: Clip | None = None,
) -> Clip:
    """The motion of the source's ``clip`` on the rig. ``contacts``: of that clip, in its frames; None plants nothing.

    ``free``: what the travelling pairing's transfer makes of the clip, where that is known already.
    """
    if contacts is None or not contacts.found or not plants(pairing):
        return pairing.transfer.run(clip, name)
    free = free if free is not None else travelling(pairing).transfer.run(clip)
    if not pairing.settings.in_place:
        return planted(free, pairing, rig, contacts, name)
    # What stays in place on a moving floor stands as it does where it travels.
    still = pairing.transfer.run(clip)
    stands = planted(free, travelling(pairing), rig, contacts, name)
    return replace(stands, translations=still.translations + (stands.translations - free.translations))


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


def planted(clip: Clip, pairing: Pairing, rig: Entry, contacts: Contacts, name: str | None = None) -> Clip:
    """``clip``, as the transfer made it, with its feet planted where ``contacts`` (in its frames) say so."""
    legs = rig_legs(pairing, rig)
    hips = next((s for s in pairing.strings if s.part == "hips"), None)
    clip = replace(clip, name=name or clip.name)
    if not legs or hips is None:
        return clip
    return plant(clip, legs, pairing.target.index[hips.target[0]], contacts)
