"""Stance: the angle left per limb, automatic matching, and turning single bones by number."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QComboBox, QSizePolicy, QWidget

from ...core.figure.facts import Arms
from ...core.matching.families import kinship
from ...core.matching.touches import TOUCHES
from ...project.changes import PAIR
from ...project.commands import (
    AdoptPose,
    MatchStance,
    MirrorTurn,
    ResetBone,
    SetAngle,
    SetTolerance,
    SetTouch,
    turn_degrees,
)
from ...wording.facts import rest_pose_words
from .. import theme
from ..parts.widgets import Card, Number, button, label, row
from .base import Desk
from .limits import LimitCard

_ROW = 24


class LimbList(QWidget):
    """Limbs with the angle that is left, as a number and a bar; a click chooses the bone."""

    chosen = Signal(str, str)

    def __init__(self):
        super().__init__()
        self.limbs, self.part, self.tolerance = [], None, 10.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Remaining angles per limb")

    def show_limbs(self, limbs, part):
        """Show the limbs, left and right beside each other."""
        self.limbs, self.part = limbs, part
        self.setFixedHeight(max(_ROW * ((len(limbs) + 1) // 2) + 20, 40))
        self.setAccessibleDescription(", ".join(f"{limb.part} {limb.angle:.0f} degrees" for limb in limbs))
        self.update()

    def _boxes(self):
        half = self.width() / 2
        for side, left in (("left", 0.0), ("right", half)):
            for i, limb in enumerate(x for x in self.limbs if x.part.startswith(side)):
                yield limb, QRectF(left + 2, 20 + i * _ROW, half - 6, _ROW - 3)

    def paintEvent(self, _event):
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(11))
        p.setPen(theme.colour("quiet"))
        for text, x in (("left", 6), ("right", self.width() / 2 + 6)):
            p.drawText(QRectF(x, 0, 100, 18), Qt.AlignmentFlag.AlignVCenter, text)
        for limb, box in self._boxes():
            off = limb.angle > self.tolerance
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(theme.colour("lifted") if limb.part == self.part else theme.colour("base"))
            p.drawRoundedRect(box, 5, 5)
            share = min(limb.angle / 90, 1.0)
            p.setBrush(theme.colour("alarm", 150) if off else theme.colour("brass", 90))
            if limb.angle > 0.05:
                p.drawRoundedRect(QRectF(box.left(), box.bottom() - 3, max(box.width() * share, 4), 3), 1.5, 1.5)
            p.setPen(theme.colour("text"))
            p.drawText(box.adjusted(7, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, limb.part.split(" ", 1)[1])
            p.setPen(theme.colour("alarm" if off else "quiet"))
            p.drawText(
                box.adjusted(0, 0, -7, 0),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                ("◆ " if off else "") + f"{limb.angle:.1f}°",
            )

    def mousePressEvent(self, event):
        for limb, box in self._boxes():
            if box.contains(event.position()):
                self.chosen.emit(limb.part, limb.target)


class StanceDesk(Desk):
    title, lead = (
        "Stance",
        "Both figures in their reference poses, at the same hips. A remaining angle is a constant error in every frame.",
    )

    shows = (*PAIR, "stance_tolerance")

    def build(self):
        self.poses = label("", wrap=True)
        self.limbs = LimbList()
        self.limbs.chosen.connect(lambda part, bone: self.session.choose(part, bone))
        card = Card("Remaining angle per limb").add(self.poses, self.limbs)
        card.add(
            row(
                button(
                    "Match automatically",
                    lambda: self.session.do(MatchStance()),
                    True,
                    "Turn the rig's limbs to match the source pose (Ctrl+M)",
                ),
                button(
                    "Reset all",
                    lambda: self.session.do(ResetBone()),
                    tip="Put the rig back into its rest pose",
                ),
                None,
            )
        )
        self.tolerance = Number(10, "°", 1, 0, 0, 180, 10, "Remaining angle above which a limb is a snag")
        self.tolerance.edited.connect(lambda value, s: self.session.drag(SetTolerance(value), settled=s))
        card.add(row(label("Warn above", "quiet"), None, self.tolerance))
        self.add(card)
        turn = Card("Turn a bone")
        turn.add(
            label(
                "Rotation from the rest pose, in the figure's axes (X to its left, Y up, Z ahead); they turn with the "
                "parent bone.",
                "quiet",
                wrap=True,
            )
        )
        self.bone = QComboBox()
        self.bone.setAccessibleName("Bone to turn")
        self.bone.activated.connect(lambda _i: self.session.choose(None, self.bone.currentText()))
        turn.add(self.bone)
        self.turns = []
        for axis, text in zip("XYZ", ("forward and back (X)", "about the vertical (Y)", "sideways (Z)")):
            number = Number(0.0, "°", 1.0, 1, -180, 180, 0.0, f"Turn {text}")
            number.edited.connect(lambda value, settled, a=axis: self._turned(a, value, settled))
            self.turns.append(number)
            turn.add(row(label(text, "quiet"), None, number))
        turn.add(
            row(
                button(
                    "Mirror", self.mirror, tip="Give the bone on the other side the same turn, mirrored", icon="mirror"
                ),
                None,
                button(
                    "Reset bone",
                    lambda: self.session.do(ResetBone(self.bone.currentText())) if self.bone.currentText() else None,
                ),
            )
        )
        self.add(turn)
        self.limits = LimitCard(self.session, self.bone)
        self.add(self.limits)
        self.touches = {}
        touches = Card("Adjustments")
        for name, does in TOUCHES.items():
            number = Number(0, "°", 1, 0, -90, 90, 0, does)
            number.edited.connect(lambda v, s, n=name: self.session.drag(SetTouch(n, v), settled=s))
            self.touches[name] = number
            touches.add(row(label(name.capitalize()), None, number))
        self.add(touches)
        pose = Card("Source reference pose")
        pose.add(
            label(
                "The source pose that the rig is matched to: the rest pose, or any frame of a clip.",
                "quiet",
                wrap=True,
            )
        )
        self.clips = QComboBox()
        self.clips.setAccessibleName("Clip to take the pose from")
        self.frame = Number(0, "", 1, 0, 0, 1e6, 0, "Frame of that clip")
        pose.add(row(self.clips, self.frame))
        self.clips.activated.connect(
            lambda _i: self.frame.set_value(self.session.frame if self.clips.currentData() is None else 0)
        )
        self.session.frame_changed.connect(
            lambda: self.frame.set_value(self.session.frame) if self.clips.currentData() is None else None
        )
        pose.add(
            row(
                button("Use this frame", self._adopt),
                button("Use rest pose", lambda: self.session.do(AdoptPose(None))),
                None,
            )
        )
        self.add(pose)

    def show_state(self):
        state = self.session.state
        pairing = state.pairing
        self.setEnabled(pairing is not None)
        if pairing is None:
            self.poses.setText("Choose a source clip and a target rig first.")
            self.limbs.show_limbs([], None)
            return
        self.poses.setText(
            f"Source rest pose: {_rest_pose(state.source_entry)}; rig: {_rest_pose(state.rig_entry)}. "
            + ("Matched automatically." if pairing.matched else "Set manually.")
        )
        self.limbs.tolerance = state.stance_tolerance
        self.tolerance.set_value(state.stance_tolerance)
        for name, number in self.touches.items():
            number.set_value(dict(pairing.settings.touches).get(name, 0.0))
        self._show_clips(state)
        self.limbs.show_limbs(pairing.limbs, self.session.part)
        names = list(pairing.target.names)
        if [self.bone.itemText(i) for i in range(self.bone.count())] != names:
            self.bone.clear()
            self.bone.addItems(names)
        if self.session.bone in names:
            self.bone.setCurrentText(self.session.bone)
        if self.bone.currentText() in pairing.target.index:
            turn = turn_degrees(pairing, self.bone.currentText())
            for number, value in zip(self.turns, turn):
                number.set_value(float(value))
        self.limits.show_state()

    def _turned(self, axis, value, settled):
        """Turn the bone so that one of its numbers is another; one undo step per drag."""
        pairing, bone = self.session.state.pairing, self.bone.currentText()
        if bone not in pairing.target.index:
            return
        self.session.choose(self.session.part, bone)
        self.session.drag(SetAngle(bone, axis, value), settled=settled)

    def mirror(self):
        """Give the partner bone on the other side the mirrored turn."""
        bone = self.bone.currentText()
        if bone and self.session.state.pairing is not None and self.session.do(MirrorTurn(bone)):
            partner = MirrorTurn(bone).partner(self.session.state)
            self.session.told.emit(f"{partner} now mirrors {bone}")

    def _adopt(self):
        frame = int(self.frame.value)
        if self.session.do(AdoptPose(frame, self.clips.currentData())):
            self.session.told.emit(f"Frame {frame} is now the source reference pose for all clips of its family")

    def _show_clips(self, state):
        clips = [
            (None, "the current clip"),
            *(
                (e.id, e.name)
                for e in state.of_role("clip")
                if e.id != state.source and kinship(e.skeleton, state.source_entry.skeleton) > 0.7
            ),
        ]
        if [self.clips.itemData(i) for i in range(self.clips.count())] != [c for c, _ in clips]:
            self.clips.clear()
            for key, text in clips:
                self.clips.addItem(text, key)


def _rest_pose(entry):
    """A rest pose with what it looks like, for those who do not know its name."""
    pose = entry.figure.rest_pose
    words = {Arms.T_POSE: "arms straight out (T-pose)", Arms.A_POSE: "arms halfway down (A-pose)"}
    known = pose is not None and not pose.seated and pose.arms in words
    return words[pose.arms] if known else rest_pose_words(pose)
