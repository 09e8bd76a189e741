"""Characters that others made: a package of hand and device models, where it can be had."""

import unittest

import numpy as np

from tests.formats import independent
from tests.support import Case
from young_marionette.core.errors import InputError
from young_marionette.formats import read
from young_marionette.project import delivery, opening


class Foreign(Case):
    @classmethod
    def setUpClass(cls):
        folder = independent.node_package(independent.MODELS)
        if folder is None:
            raise unittest.SkipTest("Node, or the models, can't be had here")
        cls.paths = sorted(folder.rglob("*.glb"))

    def test_all_are_read_with_joints_where_others_see_them(self):
        known = refused = 0
        for number, path in enumerate(self.paths):
            try:
                file = read(path)
            except InputError as error:
                self.assertIn("no skeleton", str(error))
                refused += 1
                continue
            if number % 4:
                continue
            told = independent.Gltf(path).world()
            for part in file.skeletons:
                for name, place in zip(part.skeleton.names, part.skeleton.rest_world[0]):
                    # A name that several nodes share is told by others for one of them only.
                    if name in told and not any(other.startswith(f"{name}_") for other in part.skeleton.names):
                        self.close(told[name][:3, 3], place, 1e-5, f"{path.parent.name}/{path.name}: {name}")
                        known += 1
        self.assertGreater(known, 300)
        self.assertLess(refused, 4)

    def test_hands_come_back_from_every_format(self):
        hands = [p for p in self.paths if p.parent.name == "generic-hand"]
        self.assertTrue(hands)
        for path in hands:
            first = opening.open_any(path)
            for ending in (".usdc", ".usdz", ".gltf", ".glb"):
                out = self.folder / f"{path.stem}{ending}"
                delivery.convert(first, out, body=True, overwrite=True)
                again = opening.open_any(out)
                self.assertEqual(again.skeleton.names, first.skeleton.names)
                (places, turns), (old_places, old_turns) = (
                    again.skeleton.rest_world,
                    first.skeleton.rest_world,
                )
                self.close(places, old_places, 1e-5, out.name)
                self.close(np.abs((turns * old_turns).sum(1)), 1.0, 1e-7, out.name)
                one, other = (bounds(x) for x in (again, first))
                self.close(one, other, 1e-4, out.name)


def bounds(entry):
    """The corners of a body's box at rest, in metres."""
    from young_marionette.core.character.meshes import joint_matrices, skinned

    skeleton = entry.placed_skeleton
    matrices = joint_matrices(skeleton, *skeleton.rest_world)
    points = np.concatenate([skinned(m, matrices) for m in entry.placed_character.meshes])
    return points.min(0), points.max(0)
