"""Poses of the baked clip changed on the stage or by number: what is dragged becomes keys, or a correction of a dense clip."""

from __future__ import annotations

from dataclasses import replace

from ..core.controls.posing import Grip
from ..core.errors import InputError
from ..core.passes import posing
from ..core.passes.correction import Correction, corrected_by
from ..core.passes.mirroring import mirrored
from ..core.passes.stack import Pass
from ..core.passes.under import through_bones
from ..project import keying
from ..project.commands import AddPass
from ..project.entry import new_id


class Posing:
    """Changes the pose under the playhead of the baked clip that is worked on."""

    def __init__(self, session):
        self.session = session
        self._drag = None  # (bake, frame, pose before, pose now, id of the pass) in the middle of a drag
        self._copied = None

    @property
    def bake(self):
        """The baked clip whose poses can be changed now, or None."""
        session = self.session
        return session.refined if session.step == "refine" and not session.preview else None

    @property
    def joint(self):
        """The one chosen bone, by its number, or None."""
        bake, bones = self.bake, self.session.bones
        if bake is None or len(bones) != 1:
            return None
        return bake.dense.skeleton.index.get(bones[0])

    @property
    def grip(self):
        """Takes hold of the controls that the clip is on, or None where it is on bones."""
        bake = self.bake
        return Grip(bake.control_rig, bake.controls) if bake is not None and bake.controls is not None else None

    @property
    def turnable(self):
        """Whether what is chosen can be turned."""
        joint, grip = self.joint, self.grip
        return joint is not None and (grip is None or grip.turns(joint))

    @property
    def movable(self):
        """Whether what is chosen can be dragged to another place, beside being turned."""
        joint, grip = self.joint, self.grip
        return joint is not None and (grip is None or grip.moves(joint))

    @property
    def keyed(self):
        """Whether changes become keys; else they become corrections that are eased in and out."""
        bake = self.bake
        on = [one for one in bake.passes if one.on] if bake is not None else []
        return bool(on) and bool(on[-1].thins or on[-1].keys)

    def _begin(self):
        bake, session = self.bake, self.session
        frame = round(session.second * session.rate + 1e-6)
        frame = min(max(frame, 0), bake.length[0] - 1)
        pose = bake.passed.part(frame, frame)
        return bake, frame, pose, pose, None

    def change(self, how, settled=True, gentle=True):
        """Change the pose by ``how(pose) -> pose``; ``settled`` false: in the middle of a drag, which is one step."""
        if self.bake is None:
            return
        try:
            bake, frame, before, now, known = self._drag or self._begin()
            now = how(now)
            one = keying.posed(bake, frame, before, now, gentle, self.session.one_pass)
            one = replace(one, id=known) if known is not None else one
            command = keying.laid(bake, one, "change a pose")
        except InputError as error:
            self.session.message.emit(str(error))
            return
        first = self._drag is None
        self.session.held = not settled
        self._drag = None if settled else (bake, frame, before, now, one.id)
        if settled and first:
            self.session.do(command)
        else:
            self.session.drag(command, settled=settled, afresh=True)
        if settled:
            self._tell(frame)

    def settle(self):
        """A drag is over."""
        if self._drag is not None:
            self._tell(self._drag[1])
            self._drag = None
        self.session.held = False
        self.session.end_drag()

    def _tell(self, frame):
        if self.keyed:
            self.session.told.emit(f"Pose at frame {frame} changed")
        else:
            self.session.told.emit(f"Corrected at frame {frame}, eased in and out: the clip has a key on every frame")

    # --- what can be done -----------------------------------------------------------------------
    def turn(self, joint, vector):
        """Turn a bone, in the middle of a drag."""
        grip = self.grip
        if grip is not None:
            self.change(lambda pose: grip.turned(pose, joint, vector), False, False)
        else:
            self.change(lambda pose: posing.turned(pose, joint, vector), settled=False)

    def turn_in_own_axes(self, joint, vector):
        """Turn a bone by a rotation vector in its own axes (radians), at once."""
        grip = self.grip
        if grip is not None:
            self.change(lambda pose: grip.turned_in_own_axes(pose, joint, vector), gentle=False)
        else:
            self.change(lambda pose: posing.turned_in_own_axes(pose, joint, vector))

    def move(self, joint, shift, settled=False):
        """Drag a joint: hands and feet reach, hips move over planted feet, all else turns the bone that it hangs on. A control goes
        where it is dragged.
        """
        limbs, grip = self.bake.passed.limbs, self.grip
        limb = posing.limb_of(limbs, joint)
        if grip is not None:
            self.change(lambda pose: grip.moved(pose, joint, shift), settled, False)
        elif limb is not None:
            self.change(lambda pose: posing.reached(pose, limb, shift), settled, False)
        elif limbs.points and joint == limbs.hips:
            self.change(lambda pose: posing.hips_moved(pose, limbs, shift), settled)
        else:
            self.change(lambda pose: posing.pulled(pose, joint, shift), settled)

    def mirror(self):
        """Change left and right over."""
        body = self.bake.rig.metric_body if self.bake is not None else None
        if body is None:
            self.session.message.emit("Left and right can't be told apart on this rig.")
            return
        limbs = self.bake.passed.limbs
        self.change(lambda pose: through_bones(pose, limbs, lambda bones: mirrored(bones, body)), gentle=False)

    def copy(self):
        """Keep the pose under the playhead, for another frame or another clip of the rig."""
        if self.bake is not None:
            self._copied = self.bake.passed.bones(self._begin()[2])
            self.session.told.emit("Pose copied")

    def paste(self):
        """Put the copied pose under the playhead; where the figure stands stays."""
        if self._has_copied():
            self.change(self._like_copied, gentle=False)

    def adopt(self):
        """Lay the difference of the copied pose to the one under the playhead over the whole clip, as a pass of its own."""
        if not self._has_copied():
            return
        bake, frame, before, _, _ = self._begin()
        after = self._like_copied(before)
        values = posing.differences(before, after)
        one = Pass(new_id(), corrected_by(before, values, Correction(frame, whole=True)), keep=True)
        if self.session.do(AddPass(bake.id, one, None, "adopt a difference")):
            self.session.choose_pass(one.id)
            self.session.told.emit("The difference lies over the whole clip, as a correction")

    def _has_copied(self):
        copied, bake = self._copied, self.bake
        if bake is None:
            return False
        if copied is None:
            self.session.message.emit("Copy a pose first.")
        elif copied.skeleton.names != bake.placed_skeleton.names:
            self.session.message.emit("The copied pose is of another rig.")
        else:
            return True
        return False

    def _like_copied(self, pose):
        turned = self._copied.rotations
        return through_bones(pose, self.bake.passed.limbs, lambda bones: replace(bones, rotations=turned))
