"""Controls: the way there and back against one forward pass, a dragged control, and poses against those of bones."""

import numpy as np

from tests.acting import acted
from young_marionette.core.contacts.finding import find_contacts
from young_marionette.core.controls.making import make_controls
from young_marionette.core.controls.motion import invert, solve
from young_marionette.core.controls.posing import Grip
from young_marionette.core.controls.rig import control_rig
from young_marionette.core.humanoid.reading import read_body
from young_marionette.core.kinematics import forward
from young_marionette.core.passes.keeping import Limbs
from young_marionette.core.scene.tackle import Pose, tackle_of
from young_marionette.core.thinning.settings import Thin
from young_marionette.core.thinning.thinning import Subject, Thinner

from .core import clip
from .measure import best, plain, row

NAMES = ("walk_the_wall", "climb_ladder", "light_lamp", "sweep_quay", "haul_rope", "carry_bucket", "ring_bell", "row_boat", "wave_to_ship")  # fmt: skip


def there_and_back():
    long = clip()
    rig = control_rig(make_controls(long.skeleton, read_body(long.skeleton)), long.skeleton)
    motion = invert(rig, long)
    onto, back, floor = best(lambda: invert(rig, long), lambda: solve(rig, motion), lambda: forward(long), times=3)
    made = solve(rig, motion)
    off = float(np.abs(forward(made)[0] - forward(long)[0]).max())
    size = f"{long.frames} frames, {len(long.skeleton)} bones, {len(rig.skeleton)} controls"
    yield row("bones onto controls", onto, floor, None, f"{size}; floor: a forward pass")
    yield row("controls onto bones", back, floor, None, f"there and back {off * 1000:.1e} mm off")


def a_dragged_control():
    """All that is worked out for one picture of it, without drawing."""
    acts = acted("light_lamp")[0]
    rig = control_rig(make_controls(acts.skeleton, read_body(acts.skeleton)), acts.skeleton)
    grip, motion = Grip(rig, rig.controls), invert(rig, acts)
    hips = rig.skeleton.index["hips"]

    def drag():
        pose = grip.moved(motion.cut(60, 60), hips, np.array([0.0, -0.01, 0.0]))
        places, turns = forward(solve(rig, pose))
        own = forward(pose)
        tackle_of(rig, rig.controls, Pose(own[0][0], own[1][0], places[0], turns[0]), 1.7)

    yield plain("a dragged control", best(drag, times=20)[0], 0.016, f"{len(rig.skeleton)} controls")


def poses_of_controls():
    both, took = [0, 0], [0.0, 0.0]
    for name in NAMES:
        acts = acted(name)[0]
        body = read_body(acts.skeleton)
        limbs, contacts = Limbs.of(acts.skeleton, body, None), find_contacts(acts, body, None)
        rig = control_rig(make_controls(acts.skeleton, body), acts.skeleton)
        subjects = (
            Subject(acts, contacts, limbs.points, limbs.groups),
            Subject(invert(rig, acts), contacts, limbs.points, rig=rig),
        )
        keys = []
        for i, subject in enumerate(subjects):
            keys.append([])
            took[i] += best(lambda s=subject, k=keys[-1]: k.append(Thinner(s).thin(Thin()).keyed.keys), times=1)[0]
            both[i] += keys[-1][0]
        if keys[1][0] > keys[0][0]:
            yield _poses(keys[1][0], keys[0][0], f"{name}: more than on bones")
    yield _poses(both[1], both[0], "of all clips of the show; floor: those on bones")
    yield row("thinning of controls", took[1], took[0], None, "floor: on bones")


def _poses(own, floor, note):
    """A row of numbers of poses."""
    ratio = own / floor
    return "poses of controls", str(own), str(floor), f"{ratio:.2f}", f"≤ 1 {'✓' if ratio <= 1 else '✗'}", note


BENCHMARKS = (there_and_back, a_dragged_control, poses_of_controls)
