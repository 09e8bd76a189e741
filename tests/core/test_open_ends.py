"""Rigs that end early: a neck without a head, arms without hands, legs without feet. What is not there is absent, and nothing is refused."""

from dataclasses import replace

import numpy as np

from tests.support import Case, figure, joints_at, show_folder
from young_marionette import api
from young_marionette.cli.main import main
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.skeleton import Skeleton
from young_marionette.formats import write
from young_marionette.project.pairing import not_there

PLAIN = {"upper arm": "upper_arm", "forearm": "forearm", "hand": "hand", "collarbone": "collar"}


def cut(whole, drop, tips):
    """A figure without the joints that are called so; ``tips``: its file tells where its last bones end."""
    keep = [j for j, name in enumerate(whole.names) if not name.endswith(drop)]
    place, ends = {j: i for i, j in enumerate(keep)}, whole.tips[keep].copy()
    for joint in keep:
        below = whole.children[joint]
        if tips and below and not any(c in place for c in below):
            ends[place[joint]] = whole.offsets[below[0]]
    names = []
    for joint in keep:
        side, _, part = whole.names[joint].partition(" ")
        names.append(f"{PLAIN.get(part, part)}.{side[0].upper()}" if side in ("left", "right") else whole.names[joint])
    parents = [place.get(int(whole.parents[j]), -1) for j in keep]
    return Skeleton(tuple(names), parents, whole.offsets[keep], whole.rest[keep], ends)


class EndsEarly(Case):
    def rig(self, drop, tips=True, blind=False):
        skeleton = cut(figure(), drop, tips)
        if blind:
            order = np.random.default_rng(1).permutation(len(skeleton))
            skeleton = replace(skeleton, names=tuple(f"b{i:02d}" for i in order))
        path = self.folder / "rig.bvh"
        write(path, Clip("rig", skeleton, 30.0, skeleton.rest[None]), overwrite=True)
        return path, skeleton

    def test_each_part_that_may_lack(self):
        source = api.read(show_folder() / "quay" / "wave_to_ship.bvh")
        for drop, gone in (
            (("head",), {"head"}),
            (("hand",), {"left hand", "right hand"}),
            (("foot", "toes"), {"left foot", "right foot"}),
            (("head", "hand", "foot", "toes"), {"head", "left hand", "right hand", "left foot", "right foot"}),
        ):
            for tips in (True, False):
                path, skeleton = self.rig(drop, tips)
                rig = api.read_rig(path)
                body = rig.figure.body
                self.assertEqual(set(not_there(source, rig)), gone, drop)
                told = {skeleton.names[body.parts[p][0]] for p in ("left upper arm", "right forearm", "left shin")}
                self.assertEqual(told, {"upper_arm.L", "forearm.R", "shin.L"})
                pairing = api.match(source, rig)
                self.assertLess(max(limb.angle for limb in pairing.limbs), 0.1)
                take = api.retarget(source, rig, pairing)
                self.directions(source, take, pairing)

    def directions(self, source, take, pairing):
        """The upper bones of all limbs point as the source's do."""
        ties = {s.part: s for s in pairing.strings}
        own, other = joints_at(source.placed_clip), joints_at(api.retarget(source, take.rig, pairing, **FREE).clip)
        for upper, lower in (("upper arm", "forearm"), ("thigh", "shin")):
            a, b = (ties[f"left {part}"] for part in (upper, lower))
            bones = [
                at[:, skeleton.index[getattr(b, side)[0]]] - at[:, skeleton.index[getattr(a, side)[0]]]
                for at, skeleton, side in ((own, pairing.source, "source"), (other, pairing.target, "target"))
            ]
            self.assertLess(np.degrees(rot.angle_between(*bones)).max(), 0.05)

    def test_names_need_not_tell(self):
        path, _ = self.rig(("hand",), blind=True)
        parts = api.read_rig(path).figure.body.parts
        self.assertIn("left forearm", parts)
        self.assertNotIn("left hand", parts)
        self.assertIn("head", parts)

    def test_the_command_line_tells_what_is_not_there(self):
        import contextlib
        import io

        path, _ = self.rig(("head", "hand"))
        out, told = self.folder / "out.bvh", io.StringIO()
        with contextlib.redirect_stdout(told):
            code = main(["retarget", str(show_folder() / "quay" / "wave_to_ship.bvh"), str(path), "--out", str(out)])
        self.assertEqual(code, 0)
        self.assertIn("Not there in rig: head, left hand, right hand", told.getvalue())
        self.assertTrue(out.exists())


FREE = {"feet": "free", "hands": "directions", "clear": "off"}
