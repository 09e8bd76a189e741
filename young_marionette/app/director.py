"""What stands on the stage: which figures, in which pose, put where, with what pointed out."""

from __future__ import annotations

from ..core.contacts.points import contact_points
from ..core.evaluator import EVALUATOR
from ..core.matching.touches import touched
from ..core.scene.figure import BAKED, MARIONETTE, PERFORMER, Bones, Figure
from ..core.scene.marks import contact_marks
from ..core.scene.paths import path_lines
from ..core.scene.props import edges
from ..core.scene.stances import arcs, put_side_by_side, put_together
from ..core.scene.tackle import Pose, tackle_of
from ..core.skeleton import pose_world
from ..project.entry import Entry
from ..project.looping import loop_ghost
from ..project.markers.entry import MARKERS
from ..project.markers.showing import LINE, OFF, TRAIL, shown_dots
from ..project.planting import rig_points
from ..project.playback import Motion, aside
from ..project.rooting import root_path
from .theme import colour


def _tint(kind):
    """The colour of a line between markers, to where a marker is expected, or of its trail."""
    name, alpha = {LINE: ("quiet", 120), OFF: ("alarm", 255), TRAIL: ("performer", 110)}[kind]
    return colour(name, alpha).getRgbF()


_NARROW, _GAP = 0.66, 0.08  # shares of a figure's height: its room at the least, and what is left between hands


class Director:
    """Makes the stage's figures from the session."""

    def __init__(self, session):
        self.session = session
        self._tackle = None, []
        self._shown = None, None  # the dots of the moment, and what they are of

    @staticmethod
    def _bones_of(entry):
        skeleton, figure = entry.placed_skeleton, entry.figure
        return EVALUATOR.of("bones", (skeleton, figure), lambda: Bones.of(skeleton, figure.body, figure.height))

    def figures(self):
        """The figures of the moment."""
        session = self.session
        state = session.state
        looked = state.entry(session.preview)
        if looked is not None and looked.role == MARKERS:
            return self._recording(looked)
        if looked is not None:
            return [self._playing(looked, {"clip": PERFORMER, "rig": MARIONETTE, "baked": BAKED}[looked.role])]
        if session.step == "refine" and session.refined is not None:
            return self._refined(session.refined)
        source, rig, pairing = state.source_entry, state.rig_entry, state.pairing
        if session.step == "stance" and pairing is not None:
            return self._in_stance(source, rig, pairing)
        shown = []
        if source is not None:
            shown.append(self._playing(source, PERFORMER))
        if rig is not None:
            follows = pairing is not None and any(s.part == "hips" for s in pairing.strings)
            shown.append(self._playing(source, MARIONETTE, rig, pairing) if follows else self._resting(rig))
        baked = session.refined
        if baked is not None and session.step == "deliver":
            shown.append(self._playing(baked, BAKED))
        return self._arranged(shown)

    def _recording(self, entry):
        """The markers of a recording as dots, and the figure that was solved inside them."""
        session, solving = self.session, self.session.solving
        shown = self._dots(entry)
        take, frame = solving.take(entry), session.frame
        first, last = entry.span
        if take is None or not first <= frame <= last:
            return list(shown.figures)
        pose = solving.pose(entry, frame)
        motion = Motion(take)
        own = min(max(frame - first, 0), motion.frames - 1)
        figure = self._figure(PERFORMER, take, entry.name, *(pose or motion.at(own)))
        figure.chosen = ()
        figure.faint = session.dress != "bones"  # the dots are what is looked at
        return [figure, *shown.figures]

    def _dots(self, entry):
        session = self.session
        solution = session.solving.solution(entry)
        key = entry, solution, session.frame, session.marker, session.trails
        if self._shown[0] != key:
            self._shown = key, shown_dots(*key)
        return self._shown[1]

    def dot_label(self, kind, number):
        """The label of a dot on the stage."""
        entry = self.session.solving.entry
        return self._dots(entry).labels[kind][number] if entry is not None else ""

    @property
    def names(self):
        """``(text, place)`` of what is written on the stage."""
        session = self.session
        entry = session.solving.entry
        if entry is None:
            return ()
        named = self._dots(entry).named
        if session.dot_names:
            return named
        own = session.marker.rpartition(":")[2] if session.marker else None
        return tuple(one for one in named if one[0] == own)

    def _refined(self, bake):
        """The baked clip with its source, and what it is compared with: itself before some passes, or the live result."""
        session, state, shown = self.session, self.session.state, []
        alone = session.arrangement == MARIONETTE
        source = next((e for e in state.entries if e.id == bake.source), None)
        if source is not None and source.take is not None and not alone:
            shown.append(self._playing(source, PERFORMER, second=self._source_second(bake, source)))
        live = bake.source == state.source and bake.rig.id == state.rig and state.pairing is not None
        if session.before:
            passed = bake.passed.up_to(session.count_before)
            shown.append(self._playing(bake, MARIONETTE, passed=passed))
            shown[-1].name = f"{bake.name}, before"
        elif live and not alone and any(s.part == "hips" for s in state.pairing.strings):
            second = self._source_second(bake, source)
            shown.append(self._playing(source, MARIONETTE, state.rig_entry, state.pairing, second=second))
        shown.append(self._playing(bake, BAKED))
        if session.passing.lags:
            shown[-1].name = f"{bake.name}: catching up"
        if alone:  # or as it was before, in the same place
            return [shown[-2] if session.before else shown[-1]]
        return self._with_ghost(bake, self._arranged(shown))

    def _with_ghost(self, bake, shown):
        """With the first pose of the chosen loop, where its last frame stands: what is apart there is the gap."""
        ghost = loop_ghost(bake, self.session.one_pass)
        if ghost is not None:
            one = self._figure(BAKED, bake, "", *ghost)
            one.ghost, one.dress, one.shift = True, "bones", shown[-1].shift
            shown = [*shown, one]
        return shown

    def _source_second(self, bake, source):
        """The time in the source of what is shown of a bake."""
        begins = bake.frames[0] / source.length[1] if bake.frames is not None else 0.0
        first, seconds = bake.part
        begins += first / bake.dense.rate
        frames, rate = bake.length
        speed = (seconds * rate / (frames - 1)) if frames > 1 else 1.0
        return begins + self.session.second * speed

    def _arranged(self, shown):
        session = self.session
        if session.arrangement in (PERFORMER, MARIONETTE):
            shown = [f for f in shown if f.kind == session.arrangement] or shown
        self._put(shown)
        return shown

    def _put(self, shown):
        """Side by side with room for both pairs of arms, or all in one place."""
        if self.session.arrangement != "beside" or len(shown) < 2:
            return
        widths = [max(self._width(f), 0.5) for f in shown]
        put_side_by_side(shown, widths)

    def _width(self, figure):
        state = self.session.state
        entry = state.source_entry if figure.kind == PERFORMER else state.rig_entry
        if entry is None:
            return 1.0
        # Both do what the source does; in String and Stance each shows its own rest pose.
        resting = self.session.step in ("string", "stance")
        shown = entry if resting or state.source_entry is None else state.source_entry
        return entry.figure.height * max(_NARROW, 2 * aside(shown, resting) + _GAP)

    def _chosen(self, kind):
        """Joints of the chosen part, or the chosen bone, on one figure."""
        session = self.session
        pairing = session.state.pairing
        if pairing is None:
            return ()
        if session.step == "refine" and kind != PERFORMER and session.refined and session.refined.controls:
            return self._driven(session.refined.control_rig) if kind == BAKED else ()
        if session.step == "refine" and kind != PERFORMER:
            return tuple(pairing.target.index[n] for n in session.bones if n in pairing.target.index)
        skeleton = pairing.source if kind == PERFORMER else pairing.target
        if kind == MARIONETTE and session.bone in skeleton.index and session.step == "stance":
            return (skeleton.index[session.bone],)
        string = next((s for s in pairing.strings if s.part == session.part), None)
        names = () if string is None else string.source if kind == PERFORMER else string.target
        return tuple(skeleton.index[n] for n in names if n in skeleton.index)

    def _driven(self, rig):
        """The bones that the chosen controls drive."""
        chosen = {rig.skeleton.index[n] for n in self.session.bones if n in rig.skeleton.index}
        return tuple(bone for bone, joint in enumerate(rig.driver.tolist()) if joint in chosen)

    def tackle(self, figures):
        """The controls of the baked clip that is worked on, where it is on some (a Tackle each)."""
        session, bake = self.session, self.session.refined
        figure = next((f for f in figures if f.kind == BAKED and not f.ghost), None)
        if session.step != "refine" or bake is None or bake.controls is None or figure is None:
            return []
        if session.preview or session.playing or not session.shows_controls:
            return []
        motion = Motion(bake)
        frame = round(session.second * motion.rate + 1e-6)
        key = bake, motion.whole, frame, session.hidden, tuple(figure.shift)
        if self._tackle[0] != key:
            pose = Pose(*motion.tackle_at(frame), figure.positions, figure.rotations)
            made = tackle_of(bake.control_rig, bake.controls, pose, figure.height, session.hidden, figure.shift)
            self._tackle = key, made
        return self._tackle[1]

    def _figure(self, kind, entry, name, positions, rotations):
        body = entry.figure.body
        hands = (
            tuple(body.parts[p][0] for p in ("left hand", "right hand", "head") if body and p in body.parts)
            if kind == MARIONETTE
            else ()
        )
        figure = Figure(kind, name, self._bones_of(entry), positions, rotations, chosen=self._chosen(kind), hands=hands)
        figure.skeleton, figure.character = entry.placed_skeleton, entry.placed_character
        figure.height = entry.figure.height
        # One over the other, a body would hide what it is to be compared with.
        hides = self.session.arrangement == "over" and self.session.dress == "body" and not self.session.preview
        figure.dress = "through" if hides else self.session.dress
        return figure

    def _playing(self, entry, kind, rig=None, pairing=None, second=None, passed=None):
        """A figure of the moment, or of another ``second``."""
        session = self.session
        motion = Motion(entry, pairing, rig, passed)
        if second is None:
            second = session.second
        own = kind == BAKED or passed is not None
        frame = round(second * motion.rate + 1e-6) if own else int(second * motion.rate + 1e-6)
        figure = self._figure(kind, rig or entry, (rig or entry).name, *motion.at(frame))
        clip = motion.whole or motion.clip
        if (clip.morphs or len(clip.scaled)) and figure.character is not None:
            pose = (rig or entry).with_morphs(motion.pose_at(frame))
            figure.weights = {name: float(value) for name, value in zip(pose.morphs, pose.weights[0])}
            # How large its joints are is the performer's own affair.
            figure.factors = {j: f[0] for j, f in pose.scale_factors.items()} if rig is None else {}
        return figure

    def _resting(self, rig):
        return self._figure(MARIONETTE, rig, rig.name, *rig.placed_skeleton.rest_world)

    def _in_stance(self, source, rig, pairing):
        """Both in their reference poses, sized alike and at the same hips."""
        scale = 1.0
        hips = next((s for s in pairing.strings if s.part == "hips"), None)
        if hips:
            scale = pairing.transfer.scale
        source_pose = pose_world(pairing.source, pairing.stance.source)
        touches = dict(pairing.settings.touches)
        pose = touched(pairing.stance.target, pairing.target, pairing.strings, touches)
        target_pose = pose_world(pairing.target, pose)
        figures = [
            self._figure(PERFORMER, source, source.name, *source_pose),
            self._figure(MARIONETTE, rig, rig.name, *target_pose),
        ]
        if hips:
            joints = pairing.source.index[hips.source[0]], pairing.target.index[hips.target[0]]
            put_together(*figures, joints, scale)
        if self.session.arrangement == "beside":
            self._put(figures)
        elif self.session.arrangement in (PERFORMER, MARIONETTE):
            figures = [f for f in figures if f.kind == self.session.arrangement]
        return figures

    def lines(self, figures):
        """Arcs of the angles left in the stance, and trails of hands and feet: ``(points, rgba)``."""
        session = self.session
        if session.solving.entry is not None:
            return [(line, _tint(kind)) for kind, line in self._dots(session.solving.entry).lines]
        if session.step == "stance" and session.state.pairing is not None and not session.preview and len(figures) == 2:
            return self._arcs(figures)
        lines = (*self._props(figures), *self._root(figures), *self._marks(figures))
        return (*lines, *self._trails(figures)) if session.trails else lines

    def _props(self, figures):
        """What the clip was acted on, by its edges; for the rig as large as its room is."""
        session, state = self.session, self.session.state
        source = state.entry(session.preview) or state.source_entry
        if not isinstance(source, Entry) or not source.props or session.step == "stance":
            return
        tint = colour("quiet", 110).getRgbF()
        for figure in figures:
            in_room = None if figure.kind == PERFORMER else self._room(figure)
            if figure.kind != PERFORMER and in_room is None:
                continue
            for box in source.props:
                for line in edges(box, in_room) if in_room else edges(box):
                    yield line + figure.shift, tint

    def _root(self, figures):
        """The way of the root bone over the floor, where travel is worked on: of one that is there, or is asked for."""
        session, state = self.session, self.session.state
        wanted = session.live.wanted if session.step in ("transfer", "deliver") and not session.preview else None
        if wanted and wanted[0].transfer.root is None:
            settings = wanted[0].settings
            asked = settings.root is not None or settings.root_smooth or session.wanted.recipe.travel.bone == "add"
            wanted = wanted if asked else None
        for figure in figures if wanted else ():
            if figure.kind == MARIONETTE:
                path, rate = root_path(*wanted)
                frame = round(session.second * rate)
                tint = colour("brass").getRgbF()
                for line in path_lines(path.places.T, path.headings, rate, frame, state.rig_entry.figure.height):
                    yield line + figure.shift, tint

    def _room(self, figure):
        """Where the source's room is on a rig, or None where nothing is transferred."""
        pairing = self.session.state.pairing
        follows = pairing is not None and any(s.part == "hips" for s in pairing.strings)
        return pairing.transfer.in_room if follows and figure.kind == MARIONETTE and not self.session.preview else None

    def _marks(self, figures):
        """What touches, under the figures, wherever contacts are worked with."""
        session, state = self.session, self.session.state
        source = state.entry(session.preview) or state.source_entry
        if not session.marks or source is None or source.take is None or session.step == "stance":
            return
        for figure in figures:
            points, contacts, frame = self._touching(figure, source)
            for name, line in contact_marks(figure, points, contacts, frame, figure.height) if contacts else ():
                yield line, colour(name.split()[0] if " " in name else "text").getRgbF()

    def _touching(self, figure, source):
        """``(points, contacts, frame)`` of a figure; contacts are None where they are not known."""
        session, state = self.session, self.session.state
        if figure.kind == BAKED:
            baked = state.entry(session.preview) or state.entry(session.compare)
            known = baked.passed.result
            frame = round(session.second * baked.length[1] + 1e-6)
            return (
                rig_points(baked.pairing, baked.rig) if baked.pairing else (),
                known.contacts if known else None,
                frame,
            )
        if not isinstance(source, Entry) or not source.knows_contacts:
            return (), None, 0
        if figure.kind == MARIONETTE:
            if session.preview or state.pairing is None:
                return (), None, 0
            return rig_points(state.pairing, state.rig_entry), source.contacts, session.frame
        points = contact_points(source.placed_skeleton, source.metric_body, source.placed_character)
        return points, source.contacts, session.frame

    def _arcs(self, figures):
        pairing, tint = self.session.state.pairing, colour("brass").getRgbF()
        return [(line, tint) for line in arcs(pairing.limbs, pairing.strings, *figures)]

    def _trails(self, figures):
        session, lines = self.session, []
        state = session.state
        for figure in figures:
            entry = state.rig_entry if figure.kind == MARIONETTE else state.source_entry
            if figure.kind == BAKED or entry is None or entry.figure.body is None or session.preview:
                continue
            if state.source_entry is None:
                continue
            motion = (
                Motion(state.source_entry, state.pairing, state.rig_entry)
                if figure.kind == MARIONETTE
                else Motion(state.source_entry)
            )
            reach = int(motion.rate * 0.8)
            tint = colour(figure.kind).getRgbF()
            for part in ("left hand", "right hand", "left foot", "right foot"):
                if part in entry.figure.body.parts:
                    path = (
                        motion.path(entry.figure.body.parts[part][0], session.frame - reach, session.frame + reach)
                        + figure.shift
                    )
                    if len(path) > 1:
                        lines.append((path, tint))
        return lines
