"""What a skeleton carries beside its body: each joint that is no part of it told for what it is, by name and by place."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

import numpy as np

from .. import rotations as rot
from .parts import ARM, LEG
from .words import BESIDE, FINGERS

if TYPE_CHECKING:
    from .tree import Tree
    from .words import NameEvidence

ROLL, TWIST, END, SOCKET, GOAL, ROOT = "roll bone", "twist helper", "end bone", "socket", "IK goal", "second root"
FACE, EAR, HAIR, CLOTH, TAIL, WING, PROP = "face", "ear", "hair", "cloth", "tail", "wing", "prop"
PALM, CORRECTIVE, OTHER, ARMS = "palm bone", "corrective", "other", "further arm"
KINDS = (TWIST, ROLL, CORRECTIVE, END, PALM, FACE, EAR, HAIR, CLOTH, ARMS, TAIL, WING, PROP, SOCKET, GOAL, ROOT, OTHER)
_NAMED = dict.fromkeys(BESIDE, OTHER) | {
    "twist": TWIST, "end": END, "prop": PROP, "socket": SOCKET, "goal": GOAL, "corrective": CORRECTIVE, "cloth": CLOTH,
    "hair": HAIR, "face": FACE, "eye": FACE, "jaw": FACE, "ear": EAR, "tail": TAIL, "wing": WING, "breast": CORRECTIVE,
}  # fmt: skip
_NEAR = 0.02  # of the leg: what lies nearer to its parent has no place of its own
_HEAD = 0.45  # of the leg, about a head


def tell_beside(
    tree: Tree,
    names: NameEvidence,
    parts: dict[str, tuple[int, ...]],
    up: np.ndarray,
    forward: np.ndarray,
    further: Collection[int] = (),
) -> dict[str, tuple[int, ...]]:
    """Kinds (of KINDS) to the joints that are so, for all that are no part of a body; ``up``, ``forward``: its axes.

    ``further``: where arms begin that are more than two.
    """
    teller = _Teller(tree, names, parts, up, forward)
    teller.kinds.update(dict.fromkeys(further, ARMS))
    found: dict[str, list[int]] = {}
    for joint in range(len(tree.sizes)):
        kind = teller.kind(joint)
        if kind:
            found.setdefault(kind, []).append(joint)
    return {kind: tuple(found[kind]) for kind in KINDS if kind in found}


class _Teller:
    def __init__(
        self, tree: Tree, names: NameEvidence, parts: dict[str, tuple[int, ...]], up: np.ndarray, forward: np.ndarray
    ) -> None:
        self.tree, self.names, self.up, self.forward = tree, names, up, forward
        self.left = np.cross(up, forward)
        self.of: dict[int, str] = {}
        self.kinds: dict[int, str] = {}
        for part, run in parts.items():
            plain = part.removeprefix("left ").removeprefix("right ")
            for place, joint in enumerate(run):
                self.of[joint] = plain
                if plain.endswith(" twist"):
                    self.kinds[joint] = TWIST
                elif place and plain in (*ARM, *LEG):
                    self.kinds[joint] = ROLL
        thigh, shin, foot = (tree.points[parts[f"left {p}"][0]] for p in LEG)
        self.leg = float(np.linalg.norm(shin - thigh) + np.linalg.norm(foot - shin)) or 1.0
        self.head = parts.get("head", (None,))[0]
        leaves = [c for c in tree.children[self.head] if tree.levels[c] == 0] if self.head is not None else []
        self.crown = max(leaves, key=lambda c: float(tree.points[c] @ up), default=None)
        self.ends = [run[0] for part, run in parts.items() if part.endswith((" hand", " foot"))]
        hips = parts["hips"][0]
        self.carrying = {j for part in self.of for j in tree.skeleton.ancestors(part)}
        self.above = {hips, *tree.skeleton.ancestors(hips)}

    def kind(self, joint: int) -> str | None:
        """What a joint is beside the body; None for a part of it."""
        if joint not in self.kinds and joint not in self.of:
            above = ROOT if joint in self.above else None
            self.kinds[joint] = above or self._named(joint) or self._inherited(joint) or self._seen(joint)
        return self.kinds.get(joint)

    def _named(self, joint: int) -> str | None:
        said = self.names.parts[joint]
        kind = _NAMED.get(next(iter(said))) if len(said) == 1 else None
        # What is called a tail on a head is hair.
        on_head = self.head is not None and self.tree.below(joint, self.head)
        return HAIR if kind == TAIL and on_head else kind

    def _inherited(self, joint: int) -> str | None:
        """What hangs on something beside the body belongs to it, but for the ends of twist helpers and the like."""
        parent = int(self.tree.skeleton.parents[joint])
        above = self.kinds.get(parent) if parent >= 0 and parent not in self.of else None
        return above if above not in (TWIST, ROLL, CORRECTIVE, PALM, END, ROOT) else None

    def _seen(self, joint: int) -> str:
        tree = self.tree
        parent = int(tree.skeleton.parents[joint])
        if parent < 0:
            return GOAL if self._is_goal(joint) else ROOT
        # What lies between a hand and its fingers, or above a thigh, only carries them.
        if joint in self.carrying:
            return PALM if self.of.get(parent) == "hand" else OTHER
        if (parent in self.above and parent not in self.of) or self.of.get(parent) == "root":
            return GOAL if tree.levels[joint] < 2 else PROP
        part = self.of.get(parent, "")
        alone, far = tree.levels[joint] == 0, tree.lengths[joint] > _NEAR * self.leg
        if part in FINGERS or part.endswith("toes"):
            return END
        if alone and not far and not tree.reach[joint] > _NEAR * self.leg:
            return SOCKET
        place = tree.points[joint] - tree.points[parent]
        if part in ("head", "neck"):
            return self._on_head(joint)
        if part in ("hand", "foot"):
            return self._on_end(joint, part, alone)
        if part in (*ARM, *LEG, "collarbone"):
            return CORRECTIVE if alone else CLOTH
        if alone:
            return CORRECTIVE if np.linalg.norm(place) < 0.25 * self.leg else PROP
        return self._on_trunk(joint, part)

    def _is_goal(self, joint: int) -> bool:
        """Whether a joint that hangs on nothing stands at a hand or foot, on the floor under it, or well before one."""
        at = self.tree.points[joint] - self.tree.points[self.ends]
        flat = at - np.outer(at @ self.up, self.up)
        near = min(np.linalg.norm(at, axis=1).min(), np.linalg.norm(flat, axis=1).min()) / self.leg
        before = (
            float((at @ self.forward).min()) > 0.2 * self.leg and float(np.abs(at @ self.left).min()) < 0.1 * self.leg
        )
        return bool(self.tree.levels[joint] < 2 and (near < 0.05 or before))

    def _on_head(self, joint: int) -> str:
        """Face before, ears to both sides and upwards, hair hanging or behind, and the head's end over it."""
        tree, at = self.tree, self.tree.points[joint]
        assert self.head is not None
        offset = (at - tree.points[self.head]) / self.leg
        rise, ahead, aside = float(offset @ self.up), float(offset @ self.forward), abs(float(offset @ self.left))
        if tree.levels[joint] == 0:
            over = rise > 0.1 and aside < 0.01 and abs(ahead) < 0.3 * rise
            return END if over and joint == self.crown else FACE if ahead > -0.03 else HAIR
        below = tree.points[tree.skeleton.subtree(joint)]
        way = (tree.line(tree.chain(joint))[-1] - at) / self.leg
        spread = np.linalg.norm(below - tree.points[self.head], axis=1).max() / self.leg
        if (
            spread < _HEAD
            and (tree.levels[joint] < 2 or way @ self.forward > 0.3 * np.linalg.norm(way))
            and ahead > -0.03
        ):
            return FACE
        return EAR if way @ self.up > 0.3 * np.linalg.norm(way) and aside > 0.03 else HAIR

    def _on_end(self, joint: int, part: str, alone: bool) -> str:
        tree, parent = self.tree, int(self.tree.skeleton.parents[joint])
        if part == "foot":
            return CORRECTIVE if (tree.points[joint] - tree.points[parent]) @ self.forward < 0 else END
        before = int(tree.skeleton.parents[parent])
        straight = rot.angle_between(
            tree.points[parent] - tree.points[before], tree.points[joint] - tree.points[parent]
        )
        only = sum(tree.lengths[c] > _NEAR * self.leg for c in tree.children[parent]) == 1
        return END if alone and straight < np.radians(40 if only else 10) else PROP

    def _on_trunk(self, joint: int, part: str) -> str:
        """Tails behind the hips, cloth that hangs, wings to both sides."""
        tree, at = self.tree, self.tree.points[joint]
        way = rot.normalise(tree.line(tree.chain(joint))[-1] - at)
        down, behind, aside = -float(way @ self.up), -float(way @ self.forward), abs(float(way @ self.left))
        middle = abs(float((at - tree.points[int(tree.skeleton.parents[joint])]) @ self.left)) < 0.03 * self.leg
        if part == "hips":
            return TAIL if middle and aside < 0.3 and (behind > 0.25 or tree.levels[joint] > 4) else CLOTH
        return WING if aside > 0.6 and tree.levels[joint] > 1 else CLOTH if down > 0.4 else PROP
