"""What is learned from corrections: names of bones that were tied by hand."""

from __future__ import annotations

from ..core.errors import InputError


def learn_words(session):
    """Keep the names of bones that were tied by hand as words for the next rig with such names, and say so."""
    pairing = session.state.pairing
    if pairing is None or not any(string.by_hand for string in pairing.strings):
        return
    from ..project.own_words import learn  # only where there is something to learn

    try:
        fresh = learn(pairing)
    except (InputError, OSError) as error:
        session.message.emit(str(error))
        return
    if fresh:
        said = "; ".join(f"{', '.join(words)} for the {part}" for part, words in fresh.items())
        session.told.emit(f"Learned for the next rig with such names: {said}")
