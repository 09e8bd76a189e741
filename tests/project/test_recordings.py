"""Recordings in the project: opened, placed, assigned, left out, kept, undone, saved and read again."""

from dataclasses import replace
from functools import cache

import numpy as np

from tests.support import Case, show_folder
from young_marionette.core.markers.figure import usual_figure
from young_marionette.core.markers.mends import BELIEVE, FILL, LEAVE_OUT, Mend
from young_marionette.core.markers.sizing import size_of
from young_marionette.formats import read
from young_marionette.project import storage
from young_marionette.project.commands import (
    AddRecordings,
    AssignMarker,
    KeepFigure,
    LetGoMarkers,
    LetGoMend,
    MendMarkers,
    PlaceRecording,
    Remove,
    SizeFigure,
    TakeTPose,
    UseLabelling,
)
from young_marionette.project.document import Document
from young_marionette.project.markers.entry import by_subject, marker_entries, take_of
from young_marionette.project.markers.files import figure_file, figure_of
from young_marionette.project.markers.writing import labelling_of, mended_recording
from young_marionette.project.snags import find_snags
from young_marionette.wording.snags import snag_words


@cache
def walk():
    """One entry for all tests: what is solved of it is known to the next."""
    (entry,) = marker_entries(read(show_folder() / "markers/walk_the_wall.c3d"))
    return entry.changed(trim=(500, 560))


class Project(Case):
    def setUp(self):
        self.document = Document()
        self.document.do(AddRecordings((walk(),)))

    @property
    def entry(self):
        return self.document.state.recordings[0]

    def do(self, *commands):
        self.document.do(*commands)

    def test_edits_and_undo(self):
        entry, key = self.entry, self.entry.id
        self.do(AssignMarker(key, "quay:LWRA", "leftHand", mirror=True))
        self.assertEqual(dict(self.entry.labelling), {"quay:LWRA": "leftHand", "quay:RWRA": "rightHand"})
        laid = self.entry.laid
        for label, segment in (("quay:LWRA", "leftHand"), ("quay:RWRA", "rightHand"), ("quay:LKNE", "leftUpperLeg")):
            at = entry.recording.index[label]
            self.assertEqual(self.entry.structure.names[laid.segments[at]], segment)
        self.do(MendMarkers(key, (Mend(LEAVE_OUT, "quay:C7", 600, 520),)))
        out = Mend(LEAVE_OUT, "quay:C7", 520, 600)
        self.assertEqual(self.entry.mends, (out,))
        self.do(MendMarkers(key, (replace(out, kind=BELIEVE, last=700),)))
        self.assertEqual([m.kind for m in self.entry.mends], [BELIEVE])
        self.do(LetGoMend(key, self.entry.mends[0]))
        self.assertEqual(self.entry.mends, ())
        self.do(PlaceRecording(key, (("ahead", True), ("centred", True))))
        begun = np.nanmean(self.entry.placed_recording.points[500], axis=0)
        self.close(begun[[0, 2]], 0, 0.05)
        self.do(LetGoMarkers(key))
        self.assertEqual(self.entry.labelling, ())
        for _ in range(6):
            self.document.undo()
        self.assertIs(self.entry, entry)
        self.refuses(lambda: self.do(AssignMarker(key, "quay:LWING", "leftHand")), "no marker")
        self.do(Remove(key))
        self.assertEqual(self.document.state.recordings, ())

    def test_saved_and_read_again(self):
        key = self.entry.id
        fresh = replace(self.entry, recording=replace(self.entry.recording))
        self.assertIsNone(fresh.known_solution)
        solution = self.entry.solved()
        self.assertIs(self.entry.known_solution, solution)
        self.do(
            KeepFigure(key, solution.figure),
            AssignMarker(key, "*40", None),
            MendMarkers(key, (Mend(LEAVE_OUT, "quay:C7", 510, 520),)),
        )
        self.do(KeepFigure(key, solution.figure), TakeTPose(key, self.t_pose(), (6.0, -12.0)))
        self.do(SizeFigure(key, (("leftHand", 0.26), ("trunk", 0.5)), mirror=True))
        self.do(KeepFigure(key, solution.figure))
        path = self.folder / "dots.marionette"
        storage.save(path, self.document.state)
        again = storage.load(path).recordings[0]
        for name in (
            "id",
            "name",
            "path",
            "format",
            "placed",
            "labelling",
            "mends",
            "sizes",
            "touches",
            "declared",
            "subjects",
            "notes",
        ):
            self.assertEqual(getattr(again, name), getattr(self.entry, name), name)
        self.assertEqual(again.recording.digest, self.entry.recording.digest)
        self.assertEqual(again.recording.unlabelled.tolist(), self.entry.recording.unlabelled.tolist())
        self.assertEqual(dict(again.sizes), {"leftHand": 0.26, "rightHand": 0.26, "trunk": 0.5})
        self.assertEqual((again.reference.name, again.reference.labels), ("quay_t_pose", self.t_pose().labels))
        self.close(again.reference.points, self.t_pose().points)
        self.close(again.figure.offsets, solution.figure.offsets)
        self.assertEqual(figure_file(again.figure), figure_file(solution.figure))
        self.assertEqual(figure_of("x", figure_file(solution.figure)).labels, solution.figure.labels)

    def test_a_figure_is_taken_over_by_the_next_recording(self):
        solution = self.entry.solved()
        self.do(KeepFigure(self.entry.id, solution.figure))
        self.do(AddRecordings((replace(walk(), id="other").changed(trim=(500, 540)),)))
        second = self.document.state.recordings[1]
        self.assertIs(second.figure, solution.figure)
        self.assertEqual(second.name, "walk_the_wall 2")
        self.assertIs(second.solved().figure.structure, solution.figure.structure)
        self.assertEqual(second.solved().figure.offsets.tobytes(), solution.figure.offsets.tobytes())
        # One that was fitted goes along by itself, too, where the files tell whose it is.
        for subjects, taken in ((("quay",), solution.figure), ((), None)):
            document = Document()
            first = replace(walk(), subjects=subjects)
            first.solved()
            document.do(AddRecordings((first,)))
            document.do(AddRecordings((replace(walk(), id="other", subjects=subjects).changed(trim=(500, 540)),)))
            figure = document.state.recordings[1].figure
            self.assertEqual(figure is not None, taken is not None)
        # Other markers are another set: nothing is taken over.
        lamp = marker_entries(read(show_folder() / "markers/light_lamp.trc"))[0]
        self.do(AddRecordings((lamp,)))
        self.assertIsNone(self.document.state.recordings[2].figure)

    def t_pose(self):
        return marker_entries(read(show_folder() / "markers/quay_t_pose.c3d"))[0].own_reference

    def test_a_t_pose_is_taken_from_another_recording(self):
        """Whichever is opened first; of the same performer and markers alone; until it is let go."""
        self.assertIsNone(self.entry.own_reference)
        still = marker_entries(read(show_folder() / "markers/quay_t_pose.c3d"))[0]
        self.do(AddRecordings((still,)))
        walk, own = self.document.state.recordings
        self.assertIs(walk.reference, still.own_reference)
        self.assertIsNone(own.reference)
        lamp = marker_entries(read(show_folder() / "markers/light_lamp.trc"))[0]
        self.do(AddRecordings((replace(lamp, subjects=walk.subjects), replace(lamp, id="other", subjects=("nell",)))))
        self.assertEqual([r.reference is not None for r in self.document.state.recordings], [True, False, True, False])
        self.do(TakeTPose(walk.id, None))
        self.assertIsNone(self.entry.reference)

    def test_sizes_of_a_kept_figure(self):
        figure, key = usual_figure(1.8), self.entry.id
        self.do(KeepFigure(key, figure), SizeFigure(key, (("leftLowerLeg", 0.5),)))
        self.assertAlmostEqual(size_of(self.entry.figure, "leftLowerLeg"), 0.5)
        self.assertAlmostEqual(size_of(self.entry.figure, "rightLowerLeg"), size_of(figure, "rightLowerLeg"))
        self.do(SizeFigure(key, (("stature", 0.9),)))
        self.assertAlmostEqual(size_of(self.entry.figure, "rightLowerLeg"), size_of(figure, "rightLowerLeg") / 2)
        self.assertAlmostEqual(size_of(self.entry.figure, "leftLowerLeg"), 0.5)
        self.refuses(lambda: self.do(SizeFigure(key, (("leftTail", 0.5),))), "no size")
        self.refuses(lambda: self.do(SizeFigure(key, (("trunk", 40.0),))), "0.5 cm and 4 m")
        self.do(SizeFigure(key, (("leftLowerLeg", None),)))
        self.assertEqual(dict(self.entry.sizes), {"stature": 0.9})

    def test_mended_markers(self):
        """Exchanged ones are put back, what is left out is a gap, what is filled follows its segment."""
        entry = self.entry.changed(trim=(420, 560))
        first, last = entry.span
        entry = replace(entry, mends=(Mend(FILL, "quay:LELB", 520, 530), Mend(LEAVE_OUT, "quay:LFIN", 525, 530)))
        solution, raw = entry.solved(), entry.recording
        made = mended_recording(entry, solution)
        index = raw.index
        a, b = index["quay:RWRA"], index["quay:RWRB"]
        self.close(made.points[500:561, [a, b]], raw.points[500:561, [b, a]])
        self.assertTrue(np.isnan(made.points[525:531, index["quay:LFIN"]]).all())
        elbow = index["quay:LELB"]
        self.assertGreater(np.abs(made.points[520:531, elbow] - raw.points[520:531, elbow]).max(), 0)
        self.close(made.points[520:531, elbow], raw.points[520:531, elbow], 12.0)  # millimetres, as the file has
        rest = np.ones(raw.points.shape[:2], bool)
        rest[500:600, [a, b]] = rest[520:531, elbow] = rest[525:531, index["quay:LFIN"]] = False
        self.assertTrue(np.array_equal(made.points[rest], raw.points[rest], equal_nan=True))
        full = mended_recording(entry, solution, gaps=True).points[first : last + 1, solution.on]
        self.assertFalse(np.isnan(full).any())
        self.assertEqual(labelling_of(entry, solution)["quay:RWRA"], "rightLowerArm")
        self.do(UseLabelling(self.entry.id, (("quay:C7", "spine"), ("other", "head"))))
        self.assertEqual(dict(self.entry.labelling), {"quay:C7": "spine"})
        self.refuses(lambda: self.do(UseLabelling(self.entry.id, (("other", "head"),))), "None of the markers")

    def test_performers_are_told_apart(self):
        one = self.entry.recording
        both = replace(
            one,
            labels=(*one.labels, *(f"nell{label[4:]}" for label in one.labels[:39])),
            points=np.concatenate([one.points, one.points[:, :39] + 900], 1),
            residuals=None,
            unlabelled=np.append(one.unlabelled, np.zeros(39, bool)),
        )
        first, second = by_subject(both)
        self.assertEqual((first[0], second[0], len(first[1]), len(second[1])), ("quay", "nell", 41, 39))
        self.assertEqual(by_subject(one), [("", one)])

    def test_what_no_marker_tells_of_is_a_snag(self):
        labels = self.entry.recording.labels
        arm = [label for label in labels if label[5:] in ("LELB", "LFRM", "LWRA", "LWRB", "LFIN", "LUPA")]
        self.do(*(AssignMarker(self.entry.id, label, None) for label in arm))
        self.assertEqual(find_snags(self.document.state), [])
        self.entry.solved()
        snag = next(s for s in find_snags(self.document.state) if s.code == "segments unknown")
        self.assertEqual(snag.found["segments"], ["leftUpperArm", "leftLowerArm", "leftHand"])
        self.assertIn("left forearm", snag_words(snag.found).text)

    def test_a_take_is_an_ordinary_clip(self):
        solution = self.entry.solved()
        take = take_of(self.entry, solution, 25.0)
        self.assertEqual((take.clip.rate, take.role, take.figure.unit), (25.0, "clip", "metre"))
        self.assertTrue(take.figure.body is not None and take.oddities == ())
        self.assertEqual(dict(take.declared.bones)["leftUpperArm"], "leftUpperArm")
        self.refuses(lambda: take_of(self.entry, solution, 0.0), "frames per second")
        bare = replace(self.entry, labelling=tuple((label, None) for label in self.entry.recording.labels))
        self.refuses(bare.solved, "at least 6")
