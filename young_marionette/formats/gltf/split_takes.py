"""Takes that a program wrote as an animation for each joint: what moves different joints over the same time is one take."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .motion import channels_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from .accessors import Accessors
    from .container import Container
    from .nodes import Tree

_APART, _SHARE = 0.05, 0.02  # seconds, and share of the length, that begins and ends may differ by


def split_take(
    container: Container, accessors: Accessors, tree: Tree, animations: Sequence[dict[str, Any]]
) -> list[int]:
    """Numbers of the animations that are one take of a skeleton; empty where each is one of its own.

    No two of them may move the same joint, and all have to begin and end together.
    """
    spans, moved = {}, list[set[int]]()
    for number, animation in enumerate(animations):
        channels = channels_of(container, accessors, animation)
        own = {node for node, path in channels if node in tree.joint_of and path != "weights"}
        if own:
            times = [times for times, _, _ in channels.values()]
            spans[number] = min(float(t[0]) for t in times), max(float(t[-1]) for t in times)
            moved.append(own)
    if len(spans) < 2 or sum(map(len, moved)) > len(set.union(*moved)):
        return []
    first, last = zip(*spans.values())
    within = max(_APART, _SHARE * (max(last) - min(first)))
    return list(spans) if max(first) - min(first) <= within and max(last) - min(last) <= within else []


def merged_animation(animations: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """One animation with the channels of several."""
    samplers: list[Any] = []
    channels: list[Any] = []
    for animation in animations:
        channels += [{**c, "sampler": c["sampler"] + len(samplers)} for c in animation.get("channels") or ()]
        samplers += animation.get("samplers") or []
    return {**animations[0], "samplers": samplers, "channels": channels}
