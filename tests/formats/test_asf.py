"""ASF/AMC with answers worked out by hand, and what is wrong with such files."""

import random

import numpy as np

from tests.formats.test_hostile import tried
from tests.support import Case
from young_marionette.core.kinematics import forward
from young_marionette.formats import read
from young_marionette.project.entry import entries_of
from young_marionette.wording.findings import finding_words

ASF = """# a small figure
:version 1.10
:name tender
:units
  mass 1.0
  length 0.5
  angle deg
:documentation
   made by hand
:root
   order TX TY TZ RX RY RZ
   axis XYZ
   position 0 0 0
   orientation 0 0 0
:bonedata
  begin
     id 1
     name leg
     direction 0 -1 0
     length 4
     axis 0 0 0  XYZ
     dof rx ry rz
     limits (-10 10) (-10 10) (-10 10)
  end
  begin
     id 2
     name shin
     direction 0 -1 0
     length 3
     axis 0 90 0  XYZ
     dof rx
     limits (-5 120)
  end
:hierarchy
  begin
    root leg
    leg shin
  end
"""
AMC = """#!made by hand
:FULLY-SPECIFIED
:DEGREES
1
root 1 10 0 0 0 0
leg 0 0 0
shin 0
2
root 1 10 0 0 0 90
leg 90 0 0
shin 90
3
root 2 10 5 0 0 0
leg 10 20 30
shin 45
"""


class Reading(Case):
    def write(self, asf=ASF, amc=AMC, stem="tender"):
        (self.folder / "tender.asf").write_text(asf)
        path = self.folder / f"{stem}.amc"
        path.write_text(amc)
        return path

    def test_known_places(self):
        file = read(self.write())
        clip = file.skeletons[0].clips[0]
        self.assertEqual((clip.rate, clip.frames, clip.skeleton.names), (120.0, 3, ("root", "leg", "shin")))
        places, turns = forward(clip)
        # The leg hangs at the root, the shin at the leg's end.
        self.close(places[0], [[1, 10, 0], [1, 10, 0], [1, 6, 0]], 1e-9)
        # Rolled by 90 about Z, then bent forwards by 90 about the root's X: the leg lies along Z.
        self.close(places[1], [[1, 10, 0], [1, 10, 0], [1, 10, -4]], 1e-9)
        # A turn about the shin's own X, which its axis has laid along the world's -Z.
        from young_marionette.core import rotations as rot

        own = rot.rotate(rot.multiply(rot.conjugate(turns[1, 1]), turns[1, 2]), np.array([0.0, -1.0, 0.0]))
        self.close(own, [-1, 0, 0], 1e-9)
        self.close(clip.skeleton.ends[2], [0, -7, 0], 1e-9)

    def test_limits(self):
        """Turns about three axes as a cone and a twist; a hinge twists not at all; what is not told, or broken, is free."""
        limits = {limit.joint: limit for limit in read(self.write()).skeletons[0].limits}
        self.close(limits["leg"].swing, np.hypot(*np.radians([10, 10])), 1e-9)
        self.close(limits["leg"].twist, np.radians([-10, 10]), 1e-9)
        self.close(limits["shin"].swing, np.radians(120), 1e-9)
        self.assertEqual(limits["shin"].twist, (0.0, 0.0))
        part = read(self.write(ASF.replace("limits (-5 120)", ""), stem="b")).skeletons[0]
        self.assertEqual([limit.joint for limit in part.limits], ["leg"])
        endless = ASF.replace("(-10 10) (-10 10) (-10 10)", "(-inf inf)\n (-20 10)\n (-inf inf)")
        (leg, _) = read(self.write(endless, stem="c")).skeletons[0].limits
        self.assertIsNone(leg.swing)
        self.close(leg.twist, np.radians([-20, 10]), 1e-9)
        self.refuses(lambda: read(self.write(ASF.replace("(-5 120)", "(-5 far)"), stem="d")), "'far'")

    def test_order_of_turns(self):
        """The first angle named is the first to turn: Rz Ry Rx."""
        from young_marionette.core import rotations as rot

        clip = read(self.write()).skeletons[0].clips[0]
        x, y, z = (rot.from_axis_angle(rot.AXES[a], np.radians(v)) for a, v in zip("XYZ", (10.0, 20.0, 30.0)))
        self.same_turn(clip.rotations[2, 1], rot.multiply(z, rot.multiply(y, x)))

    def test_unit_and_notes(self):
        file = read(self.write())
        self.close(file.skeletons[0].declared.unit, 0.0508, 1e-9)
        self.assertIn("120 frames per second", finding_words(file.skeletons[0].notes[0]).text)
        self.assertEqual(entries_of(read(self.folder / "tender.asf"))[0].role, "rig")

    def test_which_skeleton(self):
        path = self.write(stem="tender_07")
        self.assertEqual(len(read(path).skeletons[0].clips), 1)
        (self.folder / "other.asf").write_text(ASF)
        self.assertEqual(len(read(path).skeletons[0].clips), 1)
        stray = self.folder / "stray.amc"
        stray.write_text(AMC)
        self.refuses(lambda: read(stray), "more than one")

    def test_what_is_wrong(self):
        for asf, amc, word in (
            (ASF, AMC.replace("shin 45", "arm 45"), "arm"),
            (ASF, AMC.replace("leg 10 20 30", "leg 10 x 30"), "not a number"),
            (ASF, AMC.replace("leg 10 20 30", "leg 10 nan 30"), "not a number"),
            (ASF, AMC[: AMC.index("1\nroot")], "no whole frame"),
            (ASF.replace("length 4", "length far"), AMC, "number"),
            (ASF.replace("name shin", "name leg"), AMC, "twice"),
            (ASF.replace("leg shin", "knee shin"), AMC, "before"),
            (ASF.replace("leg shin", "leg leg"), AMC, "two parents"),
            (ASF.replace("length 0.5", "length 0"), AMC, "unit"),
            (ASF.replace("dof rx ry rz", "dof rx up"), AMC, "not known"),
            (ASF.replace("order TX", "order QX"), AMC, "order"),
        ):
            self.refuses(lambda a=asf, b=amc: read(self.write(a, b)), word)

    def test_cut_and_changed_at_random(self):
        rng = random.Random(1)
        for _ in range(300):
            texts = [ASF, AMC]
            which = rng.randrange(2)
            data = list(texts[which])
            if rng.random() < 0.4:
                data = data[: rng.randrange(len(data))]
            for _ in range(rng.randrange(1, 8)):
                if data:
                    data[rng.randrange(len(data))] = chr(rng.randrange(32, 127))
            texts[which] = "".join(data)
            tried(self.write(*texts))
