"""Hands that hold, on rigs of other arms, and arms that stay out of the body."""

from dataclasses import replace

import numpy as np

from tests.acting import acted
from tests.core.test_planting import matrices
from tests.support import Case, retargeted, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.contacts.contact import Contact, Contacts, Touch
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.contacts.points import contact_points
from young_marionette.core.contacts.touching import find_touches
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.humanoid.volumes import nearest, volumes
from young_marionette.core.transfer.hands import Holding, Side, _Hands, arms_of
from young_marionette.core.transfer.settings import DIRECTIONS, PLACES, TOUCH, TransferSettings
from young_marionette.demo.figures import Build, make_figure

USUAL = Build()
HANGING = 1.42  # radians from straight out
BUILDS = (
    replace(USUAL, arm=0.44, leg=0.7, height=1.5),
    replace(USUAL, arm=0.72, leg=1.1, height=2.1, twist=True, root=True),
    replace(USUAL, shoulders=0.26, hips=0.26),
)


class OnArms(Case):
    def onto(self, build, clip, body=None):
        """A clip transferred onto a figure."""
        self.clip, self.body = clip, body or read_body(clip.skeleton)
        rig = make_figure(build)
        self.rig_body = read_body(rig)
        self.free, _, _, self.transfer = retargeted(clip, rig)
        self.own = {p.name: p for p in contact_points(clip.skeleton, self.body)}
        points = {p.name: p for p in contact_points(rig, self.rig_body)}
        self.arms = arms_of(rig, self.rig_body.parts, points, self.rig_body.forward)
        own_arms = arms_of(clip.skeleton, self.body.parts, self.own, self.body.forward)
        references = self.transfer.references
        self.sides = (
            Side(own_arms, volumes(clip.skeleton, self.body), references[0], self.body.stature),
            Side(self.arms, volumes(rig, self.rig_body), references[1], self.rig_body.stature),
        )
        self.holding = Holding(self.free, clip, self.transfer, *self.sides)

    def held(self, contacts, mode=TOUCH, **weights):
        shifts, _ = self.holding.shifts(TransferSettings(hands=mode, **weights), contacts)
        return self.holding.moved(shifts, {})

    def palm(self, clip, side, points=None):
        """The path of a palm on the rig, by matrices."""
        arm = self.arms[side]
        world = matrices(clip)[:, arm.palm.joint]
        return world[:, :3, 3] + world[:, :3, :3] @ arm.palm.offset

    def own_palm(self, side):
        point = self.own[f"{side} hand"]
        world = matrices(self.clip)[:, point.joint]
        return world[:, :3, 3] + world[:, :3, :3] @ point.offset

    def posed(self, turns, frames=60, rate=30.0):
        """A clip of a figure whose named joints turn by ``{name: rotation vectors (frames, 3)}``; its arms hang."""
        skeleton = make_figure(USUAL)
        local = np.tile(skeleton.rest, (frames, 1, 1))
        for side, down in (("left", -HANGING), ("right", HANGING)):
            local[:, skeleton.index[f"{side} upper arm"]] = rot.from_vector(np.array([0, 0, down]))
        for name, vectors in turns.items():
            joint = skeleton.index[name]
            turned = rot.from_vector(np.broadcast_to(vectors, (frames, 3)))
            local[:, joint] = rot.multiply(turned, local[:, joint])
        return Clip("posed", skeleton, rate, local, np.array([0]), np.tile(skeleton.offsets[0], (frames, 1, 1)))


class Holds(OnArms):
    def test_hands_on_rungs_stay_there(self):
        clip, body, _, _ = acted("climb_ladder")
        contacts = find_contacts(clip, body)
        for build in BUILDS[:2]:
            self.onto(build, clip, body)
            out = self.held(contacts)
            for side in ("left", "right"):
                path, free = self.palm(out, side), self.palm(self.free, side)
                for contact in contacts.of(f"{side} hand"):
                    part = slice(contact.first, contact.last + 1)
                    self.assertGreater(np.ptp(free[part], axis=0).max(), 0.005)
                    self.assertLess(np.linalg.norm(path[part] - path[part].mean(0), axis=1).max(), 1e-3)
                step = np.linalg.norm(np.diff(path, 2, axis=0), axis=1).max()
                self.assertLess(step, 1.5 * np.linalg.norm(np.diff(free, 2, axis=0), axis=1).max() + 2e-3)

    def test_hands_on_one_bar_stay_as_far_apart(self):
        swing = np.array([-1.2, 0.0, 0.0]) + np.sin(np.linspace(0, 9, 120))[:, None] * np.array([0.4, 0.0, 0.0])
        clip = self.posed({f"{s} upper arm": swing for s in ("left", "right")}, 120)
        self.onto(BUILDS[2], clip)
        [touch] = find_touches(clip, self.body, self.own, self.sides[0].volumes)
        self.assertEqual((touch.side, touch.to), ("both", "hands"))
        self.assertLess(touch.first, 5)
        self.assertGreater(touch.last, 112)
        out = self.held(Contacts((), 0.0, 30.0, (touch,)))
        apart = np.linalg.norm(self.own_palm("left") - self.own_palm("right"), axis=1)
        now = np.linalg.norm(self.palm(out, "left") - self.palm(out, "right"), axis=1)
        free = np.linalg.norm(self.palm(self.free, "left") - self.palm(self.free, "right"), axis=1)
        part = slice(touch.first, touch.last + 1)
        scale = _Hands(self.holding, {})._arm_scale()
        self.close(now[part], apart[part] * scale, 6e-3)
        self.assertGreater(np.abs(free[part] - apart[part] * scale).max(), 0.03)

    def test_a_hand_on_the_head_is_on_the_rigs_head(self):
        clip, touch, gap = self.on_head()
        for build in BUILDS:
            self.onto(build, clip)
            out = self.held(Contacts((), 0.0, 30.0, (touch,)))
            shape = self.sides[1].volumes["head"]
            world = matrices(out)
            place = world[:, shape.joint, :3, 3] + world[:, shape.joint, :3, :3] @ shape.a
            far = np.linalg.norm(self.palm(out, "left") - place, axis=1) - shape.radius
            part = slice(touch.first + 1, touch.last)
            self.close(far[part], gap[part] * shape.radius / self.sides[0].volumes["head"].radius, 0.012)

    def on_head(self):
        """A figure that lays a hand on its head and bows."""
        skeleton = make_figure(USUAL)
        body = read_body(skeleton)
        shape = volumes(skeleton, body)["head"]
        clip = self.posed({"hips": np.sin(np.linspace(0, 4, 60))[:, None] * np.array([0.5, 0.2, 0.0])})
        self.onto(USUAL, clip, body)
        world = matrices(self.free)
        head = world[:, shape.joint, :3, 3] + world[:, shape.joint, :3, :3] @ (shape.a + [0.03, 0.11, 0.02])
        shift = {"left": head - self.palm(self.free, "left")}
        clip = self.holding.moved(shift, {})
        self.onto(USUAL, clip, body)
        touches = [t for t in find_touches(clip, body, self.own, self.sides[0].volumes) if t.to == "head"]
        self.assertEqual([(t.side, t.to) for t in touches], [("left", "head")])
        self.assertGreater(touches[0].last - touches[0].first, 50)
        ends = [matrices(clip)[:, shape.joint, :3, 3] + matrices(clip)[:, shape.joint, :3, :3] @ shape.a] * 2
        gap = np.linalg.norm(self.own_palm("left") - nearest(self.own_palm("left"), *ends)[1], axis=1) - shape.radius
        return clip, touches[0], gap

    def test_places_are_the_sources_scaled(self):
        clip, body, _, _ = acted("light_lamp")
        self.onto(BUILDS[1], clip, body)
        out = self.held(find_contacts(clip, body), PLACES)
        wanted = self.transfer.in_room(self.own_palm("right"))
        away = np.linalg.norm(self.palm(out, "right") - wanted, axis=1)
        self.assertLess(np.median(away), 2e-3)
        half = self.held(find_contacts(clip, body), PLACES, hold_places=0.5)
        middle = (self.palm(self.free, "right") + wanted) / 2
        self.assertLess(np.median(np.linalg.norm(self.palm(half, "right") - middle, axis=1)), 2e-3)

    def test_directions_and_no_weight_change_nothing(self):
        clip, body, _, _ = acted("climb_ladder")
        self.onto(BUILDS[0], clip, body)
        contacts = find_contacts(clip, body)
        self.assertIs(self.held(contacts, DIRECTIONS), self.free)
        self.assertIs(self.held(contacts, TOUCH, hold_room=0.0, hold_body=0.0, hold_hands=0.0), self.free)

    def test_hanging_arms_touch_nothing(self):
        for name in ("walk_the_wall", "carry_bucket", "wave_to_ship"):
            clip, body, _, _ = acted(name)
            own = {p.name: p for p in contact_points(clip.skeleton, body)}
            self.assertEqual(find_touches(clip, body, own, volumes(clip.skeleton, body)), ())

    def test_anything_is_held_without_a_crash(self):
        rng = np.random.default_rng(8)
        for build in BUILDS:
            for frames in (3, 30):
                self.onto(build, wild_motion(make_figure(USUAL), rng, frames))
                marks = (Contact("left hand", 0, frames + 3), Contact("right hand", 1, 2))
                touches = (Touch("both", "hands", 0, frames + 2), Touch("left", "head", 1, 2))
                for contacts in (Contacts(marks, 0.0, 30.0), Contacts((), 0.0, 30.0, touches)):
                    out = self.held(contacts)
                    self.assertTrue(np.isfinite(out.rotations).all())
                    self.close(np.linalg.norm(out.rotations, axis=-1), 1, 1e-6)


class Clear(OnArms):
    def cleared(self):
        fixed = {side: np.zeros(self.free.frames, bool) for side in self.arms}
        out = self.holding.moved(*self.holding.cleared({}, fixed))
        self.before = self.holding.depth()
        self.after = Holding(out, self.clip, self.transfer, *self.sides).depth()
        return out

    def swinging(self, rate=30.0, frames=90):
        """Arms that swing close to the thighs; a rig with wide hips gets them inside."""
        swing = np.sin(np.linspace(0, 12, frames))[:, None] * np.array([0.35, 0.0, 0.0])
        return self.posed({f"{s} upper arm": swing for s in ("left", "right")}, frames, rate)

    def test_arms_stay_out_of_wide_hips(self):
        for rate, frames in ((30.0, 90), (100.0, 300)):
            clip = self.swinging(rate, frames)
            self.onto(replace(USUAL, shoulders=0.2, hips=0.34), clip)
            out = self.cleared()
            for side in ("left", "right"):
                self.assertGreater(self.before[side].max(), 0.03)
                self.assertLess(self.after[side].max(), 0.004)
            # Smooth in time.
            wrist = self.arms["left"].limb.end
            paths = [matrices(c)[:, wrist, :3, 3] for c in (out, self.free)]
            jerk = [np.linalg.norm(np.diff(p, 2, axis=0), axis=1).max() * rate**2 for p in paths]
            self.assertLess(jerk[0], jerk[1] + 12.0)

    def test_what_is_clear_stays_as_it_is(self):
        clip = self.swinging()
        self.onto(USUAL, clip)
        self.assertIs(self.cleared(), self.free)

    def test_the_sources_own_touching_is_allowed(self):
        """A hand that goes into the source's crude hips may do so on the rig."""
        inward = {"left upper arm": np.array([0.0, 0.0, -0.4]), "right upper arm": np.array([0.0, 0.0, 0.4])}
        self.onto(USUAL, self.posed(inward))
        self.assertIs(self.cleared(), self.free)

    def test_anything_is_cleared_without_a_crash(self):
        rng = np.random.default_rng(9)
        for build in BUILDS:
            self.onto(build, wild_motion(make_figure(USUAL), rng, 40))
            out = self.cleared()
            self.assertTrue(np.isfinite(out.rotations).all())
            for side in ("left", "right"):
                self.assertLess(self.after[side].mean(), self.before[side].mean() + 1e-6)
