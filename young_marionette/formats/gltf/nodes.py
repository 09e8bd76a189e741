"""The node tree of glTF: transforms, and which nodes make which skeleton."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from ...core import rotations as rot
from ...core.errors import InputError
from ...core.findings import Finding, finding
from ...core.skeleton import Skeleton
from ..transforms import decomposed, different, parents_first, skeleton_under
from .accessors import item, whole

if TYPE_CHECKING:
    from .container import Container


MAX_NODES, MAX_DEPTH = 200_000, 20_000


def _vector(node: dict[str, Any], key: str, default: list[float], label: str) -> np.ndarray:
    value = node.get(key, default)
    try:
        array = np.array(value, float)
    except (TypeError, ValueError, OverflowError):
        array = np.zeros(0)
    if array.shape != (len(default),) or not np.isfinite(array).all() or np.abs(array).max() > 1e12:
        raise InputError(f"{label}: the {key} of a node is not {len(default)} numbers.")
    return array


class Nodes:
    """All nodes of a document: parents, children and local transforms ``moves``, ``turns``, ``scales``."""

    def __init__(self, container: Container) -> None:
        self.label, self.items = container.label, container.items("nodes")
        count = len(self.items)
        if count > MAX_NODES:
            raise InputError(f"{self.label} has {count} nodes, which is more than can be used.")
        self.parents = np.full(count, -1)
        self.children = [[] for _ in range(count)]
        for number, node in enumerate(self.items):
            children = node.get("children", [])
            for child in children if isinstance(children, list) else ():
                child = whole(child, self.label, "the child of a node")
                if child >= count or child == number or self.parents[child] >= 0:
                    raise InputError(f"{self.label}: node {child} has two parents, or does not exist.")
                self.parents[child] = number
                self.children[number].append(child)
        self.parent_of = self.parents.tolist()
        self.order = self._ordered()
        self.top = {}
        for number in self.order:
            parent = self.parent_of[number]
            self.top[number] = number if parent < 0 else self.top[parent]
        self.moves, self.turns, self.scales = np.zeros((count, 3)), np.zeros((count, 4)), np.ones((count, 3))
        for number, node in enumerate(self.items):
            self._transform(number, node)

    def _ordered(self) -> list[int]:
        """Numbers of all nodes, parents first; InputError where they go round in a circle."""
        order = [int(n) for n in np.flatnonzero(self.parents < 0)]
        depth = dict.fromkeys(order, 0)
        for number in order:
            order.extend(self.children[number])
            depth.update(dict.fromkeys(self.children[number], depth[number] + 1))
        if max(depth.values(), default=0) > MAX_DEPTH:
            raise InputError(
                f"{self.label}: its nodes are nested more than {MAX_DEPTH} deep, which is more than can be used."
            )
        if len(order) != len(self.items):
            raise InputError(f"{self.label}: its nodes form a circle.")
        return order

    def _transform(self, number: int, node: dict[str, Any]) -> None:
        if "matrix" in node:
            matrix = _vector(node, "matrix", [0.0] * 16, self.label).reshape(4, 4).T
            self.moves[number], self.turns[number], self.scales[number] = decomposed(matrix)
            return
        self.moves[number] = _vector(node, "translation", [0.0] * 3, self.label)
        turn = _vector(node, "rotation", [0.0, 0.0, 0.0, 1.0], self.label)
        length = np.linalg.norm(turn)
        self.turns[number] = turn / length if length > 1e-6 else rot.IDENTITY
        self.scales[number] = _vector(node, "scale", [1.0] * 3, self.label)

    def name(self, number: int) -> str:
        """The name of a node as written, or one made of its number."""
        name = self.items[number].get("name")
        return name if isinstance(name, str) and name.strip() else f"node_{number}"

    def above(self, number: int) -> list[int]:
        """The nodes over a node, nearest first."""
        numbers = []
        while (number := self.parent_of[number]) >= 0:
            numbers.append(number)
        return numbers

    def under(self, number: int) -> list[int]:
        """A node and all below it, parents first."""
        numbers = [number]
        for n in numbers:
            numbers.extend(self.children[n])
        return numbers

    def local(self, number: int) -> np.ndarray:
        """The local transform of a node as a 4x4 matrix."""
        matrix = np.eye(4)
        matrix[:3, :3] = rot.to_matrix(self.turns[number]) * self.scales[number]
        matrix[:3, 3] = self.moves[number]
        return matrix

    def world(self, number: int) -> np.ndarray:
        """The world transform of a node at rest, or the identity for -1."""
        matrix = np.eye(4)
        for n in [*self.above(number)[::-1], number] if number >= 0 else ():
            matrix = matrix @ self.local(n)
        return matrix


@dataclass(frozen=True, eq=False)
class Tree:
    """One skeleton in a file. ``nodes``: node numbers of its joints. ``over (4, 4)``: what its root stands under."""

    skeleton: Skeleton
    nodes: tuple[int, ...]
    over: np.ndarray
    notes: tuple[Finding, ...]

    @property
    def joint_of(self) -> dict[int, int]:
        """From node number to joint number."""
        return {n: j for j, n in enumerate(self.nodes)}


def skin_joints(container: Container, nodes: Nodes) -> list[list[int]]:
    """The joints of each skin, as lists of node numbers."""
    skins = []
    for skin in container.items("skins"):
        joints = skin.get("joints")
        if not isinstance(joints, list) or not joints:
            raise InputError(f"{container.label}: a skin lists no joints.")
        for joint in joints:
            item(nodes.items, joint, container.label, "node")
        if len(set(joints)) != len(joints):
            raise InputError(f"{container.label}: a skin lists a joint twice.")
        skins.append(joints)
    return skins


def animated_nodes(container: Container) -> set[int]:
    """Numbers of the nodes that any animation moves or turns."""
    numbers = set()
    for animation in container.items("animations"):
        for channel in animation.get("channels") or ():
            target = channel.get("target") if isinstance(channel, dict) else None
            if isinstance(target, dict) and target.get("path") in ("translation", "rotation", "scale"):
                node = target.get("node")
                if isinstance(node, int):
                    numbers.add(node)
    return numbers


def find_trees(container: Container, nodes: Nodes) -> list[Tree]:
    """The skeletons of a file (list of Tree): under each common root of a skin's joints, or of what is animated."""
    moved = {n for n in animated_nodes(container) if 0 <= n < len(nodes.items)}
    skins = skin_joints(container, nodes)
    roots = [_top(nodes, _common(nodes, joints), moved) for joints in skins]
    listed = {n for joints in skins for n in joints}
    # What no skin lists but an animation moves: a skeleton that was delivered without its body.
    covered = _under_any(nodes, {r for r in roots if r is not None})
    groups = {}
    for number in (n for n in moved if n not in covered):
        groups.setdefault(nodes.top[number], []).append(number)
    for group in groups.values():
        common = _common(nodes, group)
        if common is not None and len(nodes.under(common)) > 2:
            roots.append(_top(nodes, common, moved))
    if not roots:
        tops = [int(n) for n in np.flatnonzero(nodes.parents < 0) if len(_plain(nodes, int(n))) > 2]
        roots += [_common(nodes, _plain(nodes, top)) for top in tops]
    chosen = {r for r in roots if r is not None}
    below = _under_any(nodes, chosen, itself=False)
    trees = [_tree(nodes, root, listed | moved) for root in nodes.order if root in chosen and root not in below]
    return sorted(trees, key=lambda t: -len(t.nodes))


def _under_any(nodes: Nodes, roots: set[int], itself: bool = True) -> set[int]:
    """All nodes under some nodes, and those themselves."""
    numbers = set()
    for number in nodes.order:
        parent = nodes.parent_of[number]
        if parent in numbers or parent in roots or (itself and number in roots):
            numbers.add(number)
    return numbers


def _plain(nodes: Nodes, root: int) -> list[int]:
    """Nodes of a tree that carry no mesh, camera or light."""
    return [n for n in nodes.under(root) if not {"mesh", "camera"} & set(nodes.items[n])]


def _common(nodes: Nodes, numbers: list[int]) -> int | None:
    """The lowest node that all are, or hang under; None where they hang under different roots."""
    if not numbers:
        return None
    wanted, counts = len(set(numbers)), dict.fromkeys(numbers, 1)
    for number in reversed(nodes.order):
        count = counts.get(number, 0)
        if count == wanted:
            return number  # the first one met from below
        parent = nodes.parent_of[number]
        if count and parent >= 0:
            counts[parent] = counts.get(parent, 0) + count
    return None


def _top(nodes: Nodes, root: int | None, moved: set[int]) -> int | None:
    """The highest animated node over a root, which then belongs to the skeleton; else the root itself."""
    if root is None:
        return None
    return next((n for n in nodes.above(root)[::-1] if n in moved), root)


def _marks_end(nodes: Nodes, number: int) -> bool:
    """Whether a node only tells where the bone of its parent ends, as glTF has no other way to."""
    parent = int(nodes.parents[number])
    alone = not nodes.children[number] and len(nodes.children[parent]) == 1
    return alone and nodes.name(number) == f"{nodes.name(parent)}_end"


def _tree(nodes: Nodes, root: int, wanted: set[int]) -> Tree:
    """The skeleton under a root: all nodes but those that only carry meshes, cameras or lights."""
    keep = set()
    for number in reversed(nodes.under(root)):
        carries = bool({"mesh", "camera"} & set(nodes.items[number]))
        if number == root or number in wanted or not carries or any(c in keep for c in nodes.children[number]):
            keep.add(number)
    ends = {n for n in keep if n != root and n not in wanted and _marks_end(nodes, n)}
    # As they stand in the file, where that is an order of parents first: it is the one that people know.
    joints = sorted(keep - ends)
    place = {n: j for j, n in enumerate(joints)}
    order = parents_first([place.get(int(nodes.parents[n]), -1) if n != root else -1 for n in joints])
    joints = [joints[j] for j in order]
    index = {n: j for j, n in enumerate(joints)}
    over = nodes.world(int(nodes.parents[root]))
    parents = [index.get(int(nodes.parents[n]), -1) if n != root else -1 for n in joints]
    names, doubles = different([nodes.name(n) for n in joints])
    skeleton, notes = skeleton_under(
        names, parents, nodes.moves[joints], nodes.turns[joints], nodes.scales[joints], over
    )
    if doubles:
        notes.append(finding("same names", joints=doubles))
    tips = np.array(skeleton.tips)
    for end in ends:
        over_end = index[int(nodes.parents[end])]
        tips[over_end] = skeleton.scales[over_end] * nodes.moves[end]
    skeleton = replace(skeleton, tips=tips)
    return Tree(skeleton, tuple(joints), over, tuple(notes))
