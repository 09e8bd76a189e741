"""Planting: what stands stays, checked by forward kinematics of the tests' own, on rigs of very other proportions."""

from dataclasses import replace
from unittest import mock

import numpy as np

from tests.acting import acted
from tests.support import Case, random_build, retargeted, show_folder, wild_motion
from young_marionette.core import rotations as rot
from young_marionette.core.clip import Clip
from young_marionette.core.contacts.contact import Contact, Contacts
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.contacts.points import FEET, contact_points
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.transfer.deviation import FLOAT, SINK, SLIDE, angle_lanes, feet_lanes
from young_marionette.core.transfer.planting import legs_of, plant
from young_marionette.demo import clips as acts
from young_marionette.demo.figures import Build, make_figure

USUAL = Build()
SHORT = replace(USUAL, leg=USUAL.leg * 0.65, height=USUAL.height - 0.35 * USUAL.leg)
LONG = replace(USUAL, leg=USUAL.leg * 1.6, height=USUAL.height + 0.6 * USUAL.leg, root=True, twist=True)


def matrices(clip):
    """World matrices ``(frames, joints, 4, 4)``, joint by joint from the clip's own numbers."""
    skeleton, moving = clip.skeleton, {int(j): i for i, j in enumerate(clip.moving)}
    out = np.tile(np.eye(4), (clip.frames, len(skeleton), 1, 1))
    x, y, z, w = np.moveaxis(clip.rotations, -1, 0)
    turns = np.stack(
        [
            np.stack([1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)], -1),
            np.stack([2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)], -1),
            np.stack([2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)], -1),
        ],
        -2,
    )
    for joint, parent in enumerate(skeleton.parents):
        local = np.tile(np.eye(4), (clip.frames, 1, 1))
        local[:, :3, :3] = turns[:, joint]
        local[:, :3, 3] = clip.translations[:, moving[joint]] if joint in moving else skeleton.offsets[joint]
        out[:, joint] = local if parent < 0 else out[:, parent] @ local
    return out


def peak(path, rate, frames):
    """The largest acceleration of a path ``(frames, 3)`` in some frames (a mask)."""
    size = np.linalg.norm(np.diff(path, 2, axis=0), axis=1) * rate**2
    return size[frames[1:-1]].max(initial=0.0)


class OnLegs(Case):
    def onto(self, build, name="", rate=30, clip=None, body=None):
        """A performance transferred onto a figure, free and planted."""
        if clip is None:
            clip, body, _, _ = acted(name, rate)
        rig = make_figure(build)
        self.source, self.contacts, self.body = clip, find_contacts(clip, body), read_body(rig)
        self.free, _, _, self.transfer = retargeted(clip, rig)
        self.points = {p.name: p for p in contact_points(rig, self.body)}
        self.legs = legs_of(rig, self.body.parts, self.points, self.body.forward, self.body.up)
        self.hips = self.body.parts["hips"][0]
        self.out = plant(self.free, self.legs, self.hips, self.contacts)
        self.world, self.before = matrices(self.out), matrices(self.free)

    def path(self, world, name):
        point = self.points[name]
        return world[:, point.joint, :3, 3] + world[:, point.joint, :3, :3] @ point.offset

    def beside(self, side):
        """Frames close to where a contact of a foot begins or ends."""
        near, reach = np.zeros(self.out.frames, bool), round(0.27 * self.out.rate)
        for end in ("heel", "toe"):
            for contact in self.contacts.of(f"{side} {end}"):
                for at in (contact.first, contact.last):
                    near[max(at - reach, 0) : at + reach + 1] = True
        return near

    def check(self):
        """All that is promised of planted feet."""
        stood = 0
        for name in FEET:
            path = self.path(self.world, name)
            for contact in self.contacts.of(name):
                part = path[contact.first : contact.last + 1]
                self.assertLess(np.linalg.norm(part - part.mean(0), axis=1).max(), 1e-3)
                stood += len(part)
        self.assertGreater(stood, 0)
        for leg in self.legs:
            near = self.beside(leg.side)
            for joint, part in ((leg.shin, "shin"), (leg.foot, "foot")):
                own = self.source.skeleton.index[f"{leg.side} {part}"]
                most = peak(matrices(self.source)[:, own, :3, 3], self.source.rate, near) * max(self.transfer.scale, 1)
                self.assertLess(peak(self.world[:, joint, :3, 3], self.out.rate, near), 1.5 * most + 0.3, part)
            self.check_knee(leg)
        every = np.ones(self.out.frames, bool)
        hips = [w[:, self.hips, :3, 3] for w in (self.world, self.before)]
        self.assertLess(peak(hips[0], self.out.rate, every), 1.3 * peak(hips[1], self.out.rate, every) + 0.1)

    def check_knee(self, leg):
        """A knee never bends the other way, is never straighter than it was or than it may be, and keeps its plane."""
        thigh, shin, foot = (
            [w[:, j, :3, 3] for w in (self.world, self.before)] for j in (leg.thigh, leg.shin, leg.foot)
        )
        normals, bends = [], []
        for a, b, c in zip(thigh, shin, foot):
            normal = np.cross(b - a, c - b)
            bends.append(np.degrees(rot.angle_between(b - a, c - b)))
            normals.append(rot.normalise(normal))
        bent = np.minimum(*bends) > 12
        if bent.any():
            self.assertLess(np.degrees(rot.angle_between(normals[0][bent], normals[1][bent])).max(), 25)
        self.assertTrue((bends[0] > np.minimum(bends[1], 20) - 1e-3).all())


class Planted(OnLegs):
    def test_on_short_and_long_legs(self):
        for build in (SHORT, LONG):
            for name in acts.CLIPS:
                self.onto(build, name)
                self.check()

    def test_at_other_rates(self):
        for rate in (24, 100):
            self.onto(SHORT, "carry_bucket", rate)
            self.check()

    def test_soles_are_flat_on_the_floor(self):
        self.onto(LONG, "carry_bucket")
        for side in ("left", "right"):
            heel, toe = (self.path(self.world, f"{side} {end}")[:, 1] for end in ("heel", "toe"))
            flat = np.zeros(self.out.frames, bool)
            for contact in self.contacts.of(f"{side} heel"):
                flat[contact.first : contact.last + 1] = True
            for contact in self.contacts.of(f"{side} toe"):
                flat[: contact.first] &= True
            self.close(heel[flat], 0, 1e-3)
            stands = np.zeros(self.out.frames, bool)
            for contact in self.contacts.of(f"{side} toe"):
                stands[contact.first : contact.last + 1] = True
            self.close(toe[flat & stands], 0, 1e-3)

    def test_feet_roll(self):
        """The heel still comes first and leaves first."""
        self.onto(SHORT, "walk_the_wall")
        for side in ("left", "right"):
            heel, toe = (self.path(self.world, f"{side} {end}")[:, 1] for end in ("heel", "toe"))
            for contact in self.contacts.of(f"{side} toe")[:-1]:
                self.assertGreater(heel[contact.last], 0.01)
                self.close(toe[contact.last], 0, 1e-3)

    def test_what_is_free_stays_as_it_was(self):
        self.onto(SHORT, "wave_to_ship")
        body = [j for p, run in self.body.parts.items() if "arm" in p or p in ("spine", "head") for j in run]
        self.close(self.out.rotations[:, body], self.free.rotations[:, body], 0)
        away = np.ones(self.out.frames, bool)
        for name in FEET:
            for contact in self.contacts.of(name):
                away[max(contact.first - 14, 0) : contact.last + 15] = False
        leg = self.legs[0]
        self.close(self.world[away][:, leg.foot, :3, 3], self.before[away][:, leg.foot, :3, 3], 1e-9)

    def test_the_same_body_stays_where_its_feet_stand_still(self):
        self.onto(USUAL, "haul_rope")
        for leg in self.legs:
            for contact in self.contacts.of(leg.heel.name):
                still = self.path(self.before, leg.heel.name)[contact.first : contact.last + 1]
                if np.ptp(still, axis=0).max() < 1e-5:
                    moved = self.path(self.world, leg.heel.name)[contact.first : contact.last + 1] - still
                    self.assertLess(np.linalg.norm(moved, axis=1).max(), 1e-4)

    def test_a_foot_on_its_way_stays_over_the_floor(self):
        """A foot that swings too low is lifted, softly, and stands where it stood."""
        self.onto(SHORT, "carry_bucket")
        low = self.free.rotations.copy()
        for leg in self.legs:
            between = np.ones(self.free.frames, bool)
            for end in ("heel", "toe"):
                for contact in self.contacts.of(f"{leg.side} {end}"):
                    between[max(contact.first - 4, 0) : contact.last + 5] = False
            down = rot.from_axis_angle(rot.AXES["X"], np.where(between, 0.9, 0.0))
            low[:, leg.foot] = rot.multiply(low[:, leg.foot], down)
        self.world = matrices(plant(replace(self.free, rotations=low), self.legs, self.hips, self.contacts))
        for name in FEET:
            path = self.path(self.world, name)
            self.assertGreater(path[:, 1].min(), -0.005)
            for contact in self.contacts.of(name):
                part = path[contact.first : contact.last + 1]
                self.assertLess(np.linalg.norm(part - part.mean(0), axis=1).max(), 1e-3)

    def test_a_clip_that_hovers_goes_down_as_a_whole(self):
        """Knees stay bent as they were: it is no matter of legs that are too short."""
        self.onto(LONG, "carry_bucket")
        row = [int(j) for j in self.free.moving].index(self.hips)
        raised = self.free.translations.copy()
        raised[:, row, 1] += 0.1
        raised = replace(self.free, translations=raised)
        out = plant(raised, self.legs, self.hips, self.contacts)
        self.close(matrices(out)[:, :, :3, 3], self.world[:, :, :3, 3], 1e-4)

    def test_without_levelling_a_foot_stands_as_it_is(self):
        """On a body of the source's own size what stands still stays, however high and tilted it stands."""
        self.onto(USUAL, "haul_rope")
        tilt = rot.from_axis_angle(rot.AXES["X"], np.array(0.1))
        turned = self.free.rotations.copy()
        for leg in self.legs:
            turned[:, leg.foot] = rot.multiply(turned[:, leg.foot], tilt)
        odd = replace(self.free, rotations=turned, translations=self.free.translations + [0, 0.03, 0])
        still = self.contacts.of("left heel")[0]
        marks = Contacts(tuple(Contact(f"left {end}", still.first, still.last) for end in ("heel", "toe")), 0.0, 30.0)
        out = plant(odd, self.legs, self.hips, marks, level=False)
        part = slice(still.first, still.last + 1)
        drift = np.ptp(self.path(matrices(odd), "left heel")[part], axis=0).max()
        self.close(
            self.path(matrices(out), "left heel")[part], self.path(matrices(odd), "left heel")[part], drift + 1e-4
        )
        self.assertGreater(self.path(matrices(out), "left heel")[part, 1].min(), 0.01)

    def test_hips_give_way_and_never_the_knee(self):
        """A stand that is too far away for the leg lowers the hips, along a curve."""
        self.onto(USUAL, "haul_rope")
        bump = np.interp(np.arange(self.free.frames), [15, 35, 85, 105], [0, 0.12, 0.12, 0])[:, None, None]
        high = replace(self.free, translations=self.free.translations + bump * [0, 1.0, 0])
        stands = [("left heel", 40, 80), ("left toe", 40, 80)]
        # What the foot stands on for most of the time says where the floor is.
        stands += [(f"right {end}", first, last) for end in ("heel", "toe") for first, last in ((0, 14), (106, 224))]
        out = plant(high, self.legs, self.hips, Contacts(tuple(Contact(*s) for s in stands), 0.0, 30.0))
        self.world, self.before = matrices(out), matrices(high)
        drop = (self.before - self.world)[:, self.hips, 1, 3]
        self.assertGreater(drop[40:81].min(), 0.02)
        self.close(drop[0], 0, 2e-3)
        self.assertLess(np.abs(np.diff(drop, 2)).max() * 900, 8.0)
        self.close(self.path(self.world, "left heel")[40:81, 1], 0, 1e-6)

    def test_a_foot_that_jitters_about_its_ball_leaves_the_knee_alone(self):
        """What a captured foot turns by from frame to frame, about a ball that is held still, the foot takes back itself."""
        self.onto(USUAL, "haul_rope")
        turns, moves = (np.tile(rows[:1], (120, 1, 1)) for rows in (self.free.rotations, self.free.translations))
        leg = next(leg for leg in self.legs if leg.side == "left")
        for joint, degrees in ((leg.thigh, -30.0), (leg.shin, 50.0), (leg.foot, 15.0)):
            turns[:, joint] = rot.from_axis_angle(rot.AXES["X"], np.radians(degrees))
        jitter = rot.from_vector(np.random.default_rng(4).normal(0, np.radians(2), (120, 3)))
        turns[:, leg.foot] = rot.multiply(turns[:, leg.foot], jitter)
        clip = replace(self.free, rotations=turns, translations=moves)
        world = matrices(plant(clip, self.legs, self.hips, Contacts((Contact("left toe", 10, 109),), 0.0, 30.0)))
        self.close(np.ptp(self.path(world, "left toe")[10:110], axis=0), 0, 1e-6)
        knee = world[20:100, leg.shin, :3, 3]
        # It would jump by three centimetres.
        self.assertLess(np.linalg.norm(np.diff(knee, 2, axis=0), axis=1).max(), 0.012)

    def test_hips_that_give_way_spare_knees_close_to_straight(self):
        """Hips that bob by 8 mm over legs all but straight come to rest, knees hardly bend, and the other foot stays."""
        self.onto(USUAL, "haul_rope")
        turns = np.tile(self.free.rotations[:1], (120, 1, 1))
        for leg in self.legs:
            for joint, degrees in ((leg.thigh, -4.0), (leg.shin, 8.0), (leg.foot, -4.0)):
                turns[:, joint] = rot.from_axis_angle(rot.AXES["X"], np.radians(degrees))
        moves = np.tile(self.free.translations[:1], (120, 1, 1))
        moves[40:80, :, 1] += 0.004 * np.sin(np.linspace(0, 4 * np.pi, 40))[:, None]
        clip = replace(self.free, rotations=turns, translations=moves)
        marks = Contacts(tuple(Contact(point, 40, 79) for point in FEET), 0.0, 30.0)
        stiff = plant(clip, self.legs, self.hips, marks, level=False)
        soft = plant(clip, self.legs, self.hips, marks, level=False, giving=True)
        bent = [
            np.degrees(rot.angle(rot.multiply(rot.conjugate(clip.rotations), out.rotations)))[:, leg.shin].max()
            for out in (stiff, soft)
        ]
        self.assertGreater(bent[0], 3.0)
        self.assertLess(bent[1], 0.7)
        world, before = matrices(soft), matrices(clip)
        self.assertLess(np.ptp(world[41:79, self.hips, 1, 3]), 0.002)
        for point in FEET:
            self.close(np.ptp(self.path(world, point)[40:80], axis=0), 0, 1e-6)
        self.assertTrue(np.array_equal(soft.rotations[:20], clip.rotations[:20]))
        one = Contacts(marks.of("left heel"), 0.0, 30.0)
        world = matrices(plant(clip, self.legs, self.hips, one, level=False, giving=True))
        self.assertGreater(np.abs(world - before)[:, self.hips, :3, 3].max(), 1e-4)
        for point in ("right heel", "right toe"):
            self.close(self.path(world, point), self.path(before, point), 1e-6)


class Unkind(OnLegs):
    def test_whatever_moves_onto_whatever_stands(self):
        rng = np.random.default_rng(52)
        for build in (USUAL, SHORT, LONG, replace(USUAL, foot=0.3), replace(USUAL, ankle=0.01)):
            for frames in (2, 3, 40):
                source = make_figure(USUAL)
                clip = wild_motion(source, rng, frames)
                self.onto(build, clip=clip, body=read_body(source))
                marks = tuple(Contact(name, 1, frames + 5) for name in FEET)
                out = plant(self.free, self.legs, self.hips, Contacts(marks, 0.0, clip.rate))
                self.assertTrue(np.isfinite(out.rotations).all())
                self.close(np.linalg.norm(out.rotations, axis=-1), 1, 1e-6)
                self.assertTrue(np.isfinite(out.translations).all())

    def test_nothing_that_touches_nothing_is_planted(self):
        """Lying still in the air, and turning over: feet that are off the floor stay free."""
        self.onto(SHORT, "haul_rope")
        up = replace(
            self.source, translations=self.source.translations + np.linspace(1, 9, self.source.frames)[:, None, None]
        )
        self.onto(SHORT, clip=up, body=read_body(up.skeleton))
        self.assertEqual([c for c in self.contacts.found if c.point in FEET], [])
        self.assertIs(self.out, self.free)

    def test_without_toes(self):
        rig = self.without(make_figure(SHORT), ["left toes", "right toes"])
        with mock.patch("tests.core.test_planting.make_figure", lambda _build: rig):
            self.onto(SHORT, "carry_bucket")
        self.assertEqual([leg.toes for leg in self.legs], [None, None])
        self.check()

    def test_on_one_leg(self):
        """What has one leg is planted on one."""
        self.onto(SHORT, "walk_the_wall")
        parts = {p: run for p, run in self.body.parts.items() if not p.startswith("right")}
        legs = legs_of(self.free.skeleton, parts, self.points, self.body.forward, self.body.up)
        self.assertEqual([leg.side for leg in legs], ["left"])
        out = plant(self.free, legs, self.hips, self.contacts)
        right = [self.free.skeleton.index[f"right {p}"] for p in ("thigh", "shin", "foot")]
        self.close(out.rotations[:, right], self.free.rotations[:, right], 0)
        self.world = matrices(out)
        for contact in self.contacts.of("left heel"):
            part = self.path(self.world, "left heel")[contact.first : contact.last + 1]
            self.close(part, part.mean(0), 1e-3)

    @staticmethod
    def without(skeleton, gone):
        kept = [i for i, n in enumerate(skeleton.names) if n not in gone]
        place = {old: new for new, old in enumerate(kept)}
        parents = np.array([place.get(int(skeleton.parents[i]), -1) for i in kept])
        names = tuple(skeleton.names[i] for i in kept)
        return replace(
            skeleton, names=names, parents=parents, offsets=skeleton.offsets[kept], rest=skeleton.rest[kept],
            tips=skeleton.tips[kept], scales=skeleton.scales[kept],
        )  # fmt: skip


class Deviations(OnLegs):
    def test_slide_sink_and_float_are_told(self):
        self.onto(USUAL, "haul_rope")
        lanes = lambda clip: {(l.kind, l.part): l for l in feet_lanes(clip, self.legs, self.contacts)}  # noqa: E731, E741
        drift = np.linspace(0, 0.1, self.out.frames)[:, None, None] * np.array([1.0, 0, 0])
        slid = lanes(replace(self.out, translations=self.out.translations + drift))
        self.close(slid[SLIDE, "left heel"].worst, 0.05, 2e-3)
        [stretch] = [s for s in slid[SLIDE, "left heel"].over(0.045) if s[1] == self.out.frames - 1]
        self.close(stretch[2], 0.05, 2e-3)
        self.close(lanes(self.out)[SLIDE, "left heel"].worst, 0, 1e-6)
        moved = lanes(replace(self.out, translations=self.out.translations - [0, 0.03, 0]))
        self.close(moved[SINK, "left foot"].worst, 0.03, 1e-3)
        moved = lanes(replace(self.out, translations=self.out.translations + [0, 0.02, 0]))
        self.close(moved[FLOAT, "left foot"].worst, 0.02, 1e-3)

    def test_angles_to_the_source(self):
        self.onto(SHORT, "light_lamp")
        strings = self.transfer.strings
        for lane in angle_lanes(self.source, self.free, strings):
            self.close(lane.worst, 0, 1e-6)
        arm = self.free.skeleton.index["left upper arm"]
        turned = self.free.rotations.copy()
        turned[50, arm] = rot.multiply(turned[50, arm], rot.from_axis_angle(rot.AXES["Y"], np.array(0.2)))
        lanes = {lane.part: lane for lane in angle_lanes(self.source, replace(self.free, rotations=turned), strings)}
        self.assertEqual(lanes["left upper arm"].at, 50)
        self.assertLess(lanes["left upper arm"].worst, 0.2 + 1e-6)
        self.assertGreater(lanes["left upper arm"].worst, 0.05)
        self.close(lanes["right upper arm"].worst, 0, 1e-6)


class NeverWorse(Case):
    def test_soles_sink_no_deeper_than_free_ones(self):
        """On legs and feet of any size, with the jitter of a capture: close to stands, between them, and on heels and balls alone."""
        from young_marionette import api
        from young_marionette.formats import write
        from young_marionette.project.deviation import of_motion

        rng = np.random.default_rng(8)
        source = api.read(show_folder() / "quay" / "walk_the_wall.bvh")
        jitter = rot.from_vector(rng.normal(0, np.radians(0.8), (*source.take.rotations.shape[:2], 3)))
        noisy = replace(source.take, rotations=rot.multiply(source.take.rotations, jitter))
        write(self.folder / "noisy.bvh", noisy, source.layout)
        source = api.read(self.folder / "noisy.bvh")
        for foot in (0.6, 1.0, 1.7):
            build = random_build(rng)
            rig = make_figure(replace(build, foot=build.foot * foot))
            write(self.folder / "rig.bvh", Clip("rig", rig, 30.0, rig.rest[None]), overwrite=True)
            entry = api.read_rig(self.folder / "rig.bvh")
            off = of_motion(api.match(source, entry), source, entry, source.placed_clip, source.contacts)
            for before, after in zip(off.before, off.after):
                if after.kind == SINK:
                    self.assertLess(after.worst, before.worst + 0.001, f"{after.part}, feet {foot}")
