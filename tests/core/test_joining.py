"""Clips joined: feet that stand stay, nothing jumps, and what comes before the change is as it was."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.support import Case
from young_marionette.core import rotations as rot
from young_marionette.core.contacts.contact import Contacts
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.contacts.points import FEET, point_rows
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.keeping import Limbs, slide
from young_marionette.core.travel.joining import Change, best_changes, joined


class Joining(Case):
    def take(self, name):
        clip, body = acted(name)[:2]
        return clip, find_contacts(clip, body)

    def test_feet_stand_and_nothing_jumps(self):
        limbs = None
        for one, other in (
            ("carry_bucket", "carry_bucket"),
            ("carry_bucket", "wave_to_ship"),
            ("walk_the_wall", "carry_bucket"),
        ):
            with self.subTest(f"{one} to {other}"):
                (a, touching), (b, others) = self.take(one), self.take(other)
                # Seen from anywhere: the second clip is turned and carried off.
                turn = rot.from_axis_angle(rot.AXES["Y"], np.array(1.3))
                b = replace(
                    b, rotations=np.concatenate([rot.multiply(turn, b.rotations[:, :1]), b.rotations[:, 1:]], 1),
                    translations=rot.rotate(turn, b.translations) + np.array([3.0, 0, -2.0]),
                )  # fmt: skip
                limbs = limbs or Limbs.of(a.skeleton, read_body(a.skeleton), None)
                changes = best_changes(a, b, limbs, (touching, others), 0.4)
                self.assertEqual(len(changes), 3)
                self.assertEqual(sorted(c.cost for c in changes), [c.cost for c in changes])
                change, span = changes[0], round(0.4 * a.rate)
                made, found = joined(a, b, limbs, (touching, others), change, 0.4)
                self.assertEqual(made.frames, change.first + b.frames - change.second)
                begins, ends = change.first, change.first + span
                rows = {name: point_rows(made, [limbs.points[name]])[0] for name in FEET}
                for contact in found.found:
                    if contact.point in rows and contact.last >= begins and contact.first <= ends:
                        self.assertLess(slide(rows[contact.point][:, contact.first : contact.last + 1]), 1e-3)
                jumps = [
                    np.abs(np.diff(np.linalg.norm(np.diff(forward(c)[0], axis=0), axis=-1), axis=0)).max(initial=0)
                    for c in (made.cut(begins - 2, ends + 2), a, b)
                ]
                self.assertLess(jumps[0], 1.3 * max(jumps[1:]))
                early = min([c.first for c in touching.found if c.last >= begins], default=begins)
                self.close(forward(made)[0][: early - 30], forward(a)[0][: early - 30], 1e-9)
                # The rest is the second clip, as it is but for where it stands.
                above = [j for j, n in enumerate(a.skeleton.names) if "arm" in n or "hand" in n or n == "head"]
                mine, theirs = made.rotations[ends + 1 :, above], b.rotations[change.second + span + 1 :, above]
                self.close(np.minimum(np.abs(mine - theirs), np.abs(mine + theirs)), 0, 1e-9)

    def test_what_can_not_be_joined_is_told(self):
        (a, touching), (b, others) = self.take("carry_bucket"), self.take("wave_to_ship")
        limbs = Limbs.of(a.skeleton, read_body(a.skeleton), None)
        both = touching, others
        self.refuses(lambda: best_changes(a, b, limbs, both, 30.0), "too short")
        self.refuses(lambda: best_changes(a, replace(b, rate=25.0), limbs, both, 0.4), "same rate")
        self.refuses(lambda: joined(a, b, limbs, both, Change(a.frames, 0, 0.0), 0.4), "end before")
        still = a.cut(0, 20), b.cut(0, 20)
        made, _ = joined(*still, limbs, (Contacts(), Contacts()), Change(2, 3, 0.0), 0.2)
        self.assertEqual(made.frames, 2 + 21 - 3)
