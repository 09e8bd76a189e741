"""Edits of pose keys: what mouse, menu and keys do in the lane of the poses."""

from __future__ import annotations

from PySide6.QtCore import Qt

from ...core.errors import InputError
from ...core.keys.editing import AUTO, FLAT, JOINED
from ...core.keys.sampler import Interpolation
from ...core.thinning.settings import Thin
from ...project import keying
from ...project.commands import SetKeys

_HELD = 0.25  # seconds that a pose is held longer by at once
_WAYS = (("Hold", Interpolation.STEP), ("Straight", Interpolation.LINEAR), ("Smooth", Interpolation.CUBICSPLINE))
_TANGENTS = (("Joined", JOINED), ("Flat", FLAT), ("By themselves", AUTO))


class Keying:
    """Edits the keys of the baked clip that is worked on, as they come out of its passes."""

    def __init__(self, session):
        self.session, self._copied, self._before = session, None, None
        self.grabbed = ()  # frames of the keys that are dragged, as they were before

    @property
    def can(self):
        """Whether there are keys to edit."""
        return self.session.passing.poses is not None and not self.session.preview

    @property
    def chosen(self):
        """The frames of the chosen keys that are there."""
        poses = self.session.passing.poses
        return tuple(f for f in self.session.keys if poses is not None and f in poses.frames)

    # --- doing ----------------------------------------------------------------------------------
    def _do(self, label, change, settled=None):
        """Make an edit of the keys. ``settled``: in the middle of a drag, or at its end. Returns whether it went through."""
        session, bake = self.session, self.session.refined
        if bake is None:
            return False
        try:
            keys = self._before if self._before is not None else keying.keys_of(bake)
            made = change(keys)
        except InputError as error:
            session.message.emit(str(error))
            return False
        made, frames = made if isinstance(made, tuple) else (made, None)
        command = SetKeys(bake.id, made, label)
        done = session.do(command) if settled is None else session.drag(command, settled=settled, afresh=True)
        if frames is not None:
            session.choose_keys(frames)
        return done

    def begin(self):
        """A drag begins: all of it is worked out from the keys as they are now."""
        try:
            self._before = keying.keys_of(self.session.refined)
        except InputError as error:
            self._before = None
            self.session.message.emit(str(error))
        return self._before is not None

    def end(self):
        self._before = None

    def move(self, frames, by, settled=None):
        """Move keys by some frames."""
        self._do("move keys", lambda keys: keying.move(keys, frames, by), settled)

    def stretch(self, frames, first, last, settled=None):
        """Stretch or squeeze a run of keys."""
        self._do("stretch keys", lambda keys: keying.stretch(keys, frames, first, last), settled)

    def nudge(self, by):
        if self.chosen:
            self.move(self.chosen, by)

    def delete(self):
        chosen = self.chosen
        if chosen and self._do("delete keys", lambda keys: keying.delete(keys, chosen)):
            self.session.choose_keys(())

    def insert(self, frame=None):
        frame = self.session.frame if frame is None else frame
        if self._do("insert a key", lambda keys: keying.insert(keys, frame)):
            self.session.choose_keys((frame,))

    def copy(self):
        bake = self.session.refined
        try:
            self._copied = keying.copied(keying.keys_of(bake), self.chosen or (self.session.frame,))
        except InputError as error:
            self.session.message.emit(str(error))
            return
        count = len(self._copied.frames)
        self.session.told.emit(f"{count} poses copied" if count > 1 else "Pose copied")

    def paste(self, frame=None):
        frame = self.session.frame if frame is None else frame
        copied = self._copied
        if copied is None:
            self.session.message.emit("Copy a pose first.")
        elif self._do("paste poses", lambda keys: keying.paste(keys, copied, frame)):
            self.session.choose_keys(tuple(frame + f for f in copied.frames if frame + f < self.session.frames))

    def duplicate(self, frame):
        """The chosen poses once more, at a frame."""
        self.copy()
        self.paste(frame)

    def interpolate(self, way):
        chosen = self.chosen
        self._do("set in-betweens", lambda keys: keying.interpolate(keys, chosen, way))

    def set_tangents(self, kind):
        chosen = self.chosen
        self._do("set tangents", lambda keys: keying.tangents(keys, chosen, kind))

    def hold(self):
        frame = self.chosen[0] if self.chosen else self.session.frame
        longer = max(round(_HELD * self.session.rate), 1)
        self._do("hold a pose longer", lambda keys: keying.hold(keys, frame, longer))

    def make_dense(self):
        span = self.session.range
        self._do("make a range dense", lambda keys: keying.make_dense(keys, span))

    def thin_again(self):
        """Thin the range anew, as the last thinning was asked to."""
        session, bake = self.session, self.session.refined
        span = session.range
        asked = next((one.method for one in reversed(bake.passes) if one.thins), Thin())
        try:
            keys = keying.keys_of(bake)
        except InputError as error:
            session.message.emit(str(error))
            return
        session.job_asked.emit(
            "thin the range again",
            lambda _progress: keying.thin_again(keys, bake, asked, span),
            lambda made: session.do(SetKeys(bake.id, made, "thin a range again")),
        )

    # --- asking ---------------------------------------------------------------------------------
    def actions(self, frame):
        """What the lane's menu offers at a frame: ``(text, action or list of such, whether it can be used)``."""
        chosen, (first, last) = self.chosen, self.session.range
        some = bool(chosen)
        poses = self.session.passing.poses.frames
        return (
            (f"Insert a key at frame {frame} (Enter)", lambda: self.insert(frame), frame not in poses),
            ("Delete (Delete)", self.delete, some),
            ("Copy (Ctrl+C)", self.copy, True),
            (f"Paste at frame {frame} (Ctrl+V)", lambda: self.paste(frame), self._copied is not None),
            (f"Duplicate to frame {frame}", lambda: self.duplicate(frame), some),
            ("Hold the pose longer", self.hold, True),
            ("In-between after it", [(t, lambda w=w: self.interpolate(w)) for t, w in _WAYS], some),
            ("Tangents", [(t, lambda k=k: self.set_tangents(k)) for t, k in _TANGENTS], some),
            (f"Thin frames {first} to {last} again", self.thin_again, True),
            (f"A key on every frame from {first} to {last}", self.make_dense, True),
        )

    def _action(self, event):
        ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        return {
            (Qt.Key.Key_Delete, False): self.delete,
            (Qt.Key.Key_Backspace, False): self.delete,
            (Qt.Key.Key_Return, False): self.insert,
            (Qt.Key.Key_Insert, False): self.insert,
            (Qt.Key.Key_C, True): self.copy,
            (Qt.Key.Key_V, True): self.paste,
            (Qt.Key.Key_Left, True): lambda: self.nudge(-1),
            (Qt.Key.Key_Right, True): lambda: self.nudge(1),
        }.get((Qt.Key(event.key()), ctrl))

    def owns(self, event):
        """Whether a key is for the poses' lane, before any shortcut of the window."""
        return self.can and self._action(event) is not None

    def key(self, event):
        """Do what a key is for; False where it is for nothing here."""
        if not self.owns(event):
            return False
        self._action(event)()
        return True

    def step(self, way):
        """Go to the next (1) or previous (-1) pose."""
        poses = self.session.passing.poses
        if poses is None:
            return
        ahead = [f for f in poses.frames if (f - self.session.frame) * way > 0]
        if ahead:
            frame = ahead[0] if way > 0 else ahead[-1]
            self.session.seek(frame)
            self.session.choose_keys((frame,))
