"""Names of conventions, learned names, and how skeletons of one make differ."""

from tests.support import FULL, Case, figure, show_state
from young_marionette.core.clip import Clip
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.matching.conventions import CONVENTIONS, convention_names, learned_names
from young_marionette.core.matching.families import differences, kinship
from young_marionette.core.rebase import rename
from young_marionette.core.skeleton import Skeleton
from young_marionette.demo import dressing
from young_marionette.demo.cast import PUPPETS
from young_marionette.demo.figures import make_figure
from young_marionette.wording.findings import difference_words


class Names(Case):
    def test_vrm_names_are_those_of_the_standard(self):
        s = make_figure(FULL)
        names = convention_names(s, read_body(s), "vrm")
        for old, new in {
            "hips": "hips",
            "spine 1": "spine",
            "spine 4": "upperChest",
            "neck 1": "neck",
            "head": "head",
            "left collarbone": "leftShoulder",
            "left upper arm": "leftUpperArm",
            "right forearm": "rightLowerArm",
            "left thigh": "leftUpperLeg",
            "right toes": "rightToes",
            "left thumb 1": "leftThumbMetacarpal",
            "right little 3": "rightLittleDistal",
        }.items():
            self.assertEqual(names[old], new)
        self.assertNotIn("root", names)

    def test_every_convention_reads_back_as_the_same_body(self):
        for key in CONVENTIONS:
            s = make_figure(FULL)
            body = read_body(s)
            again = read_body(rename(s, convention_names(s, body, key)))
            self.assertEqual(again.parts, body.parts, key)
            self.assertGreater(
                min(again.certainty[p] for p in ("hips", "left hand", "right foot", "left index")), 0.85, key
            )

    def test_learned_and_back(self):
        for puppet in PUPPETS:
            s, rig = make_figure(FULL), rename(puppet.figure, puppet.names)
            names = learned_names(s, read_body(s), rig, read_body(rig))
            there = rename(s, names)
            self.assertEqual(there.names[there.index[puppet.names["left forearm"]]], puppet.names["left forearm"])
            back = rename(there, learned_names(there, read_body(there), s, read_body(s)))
            self.assertEqual(back.names, s.names)

    def test_no_two_bones_get_one_name(self):
        s = figure(spine=5, neck=2)
        clash = rename(s, {"spine 3": "chest", "neck 2": "neck"})
        for key in CONVENTIONS:
            after = rename(clash, convention_names(clash, read_body(clash), key))
            self.assertEqual(len(set(after.names)), len(after))


class Families(Case):
    def kinds(self, a, b):
        return {d.kind: d.bones for d in differences(a, b)}

    def setUp(self):
        self.clip = Clip("x", figure(), 30, figure().rest[None])
        self.s = self.clip.skeleton

    def test_same_is_same_in_any_dress(self):
        other = dressing.in_file_world(dressing.with_names(self.clip, {n: "take1:" + n for n in self.s.names}), 0.01)
        self.assertEqual(self.kinds(self.s, other.skeleton), {})
        self.assertEqual(kinship(self.s, other.skeleton), 1)

    def test_each_kind(self):
        more = dressing.insert_joint(self.clip, "pole", "right hand", (0, 0.1, 0)).skeleton
        self.assertEqual(self.kinds(self.s, more), {"more": ("pole",)})
        self.assertEqual(self.kinds(more, self.s), {"fewer": ("pole",)})
        self.assertEqual(self.kinds(self.s, rename(self.s, {"head": "skull"})), {"renamed": ("skull",)})
        longer = self.s.offsets.copy()
        longer[self.s.index["left hand"]] *= 1.3
        self.assertEqual(
            self.kinds(self.s, Skeleton(self.s.names, self.s.parents, longer, tips=self.s.tips)),
            {"offset": ("left hand",)},
        )
        parents = self.s.parents.copy()
        parents[self.s.index["head"]] = self.s.index["spine 2"]
        self.assertEqual(
            self.kinds(self.s, Skeleton(self.s.names, parents, self.s.offsets, tips=self.s.tips)),
            {"re-parented": ("head",)},
        )

    def test_the_shows_odd_clip(self):
        by_name = {e.name: e.skeleton for e in show_state().entries}
        self.assertEqual(
            [difference_words(d) for d in differences(by_name["light_lamp"], by_name["climb_ladder"])],
            ["two bones more: Pole, Lantern"],
        )
        self.assertEqual(differences(by_name["light_lamp"], by_name["haul_rope"]), [])
