"""Make the pictures in docs/screenshots anew, from the demo show: ``.venv/bin/python docs/make_screenshots.py``."""

import os
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))  # for what benchmarks measure
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for place in ("XDG_CONFIG_HOME", "XDG_DATA_HOME"):
    os.environ[place] = tempfile.mkdtemp()

import numpy as np  # noqa: E402
from PySide6.QtCore import QPointF, QRectF, Qt  # noqa: E402
from PySide6.QtGui import QPainter, QPen, QPixmap, QPolygonF  # noqa: E402

from benchmarks.thinning import blind  # noqa: E402
from young_marionette.app import settings, theme  # noqa: E402
from young_marionette.app.main import make_app  # noqa: E402
from young_marionette.app.window import Window  # noqa: E402
from young_marionette.core.clip import Clip  # noqa: E402
from young_marionette.core.filters.methods import Adaptive, LowPass, Spikes  # noqa: E402
from young_marionette.core.thinning.settings import Thin  # noqa: E402
from young_marionette.demo.dressing import insert_joint  # noqa: E402
from young_marionette.demo.example import demo_state, on_controls  # noqa: E402
from young_marionette.demo.figures import Build, make_figure  # noqa: E402
from young_marionette.formats import write  # noqa: E402
from young_marionette.project import commands as do  # noqa: E402

OUT = Path(__file__).parent / "screenshots"


def dressed_up():
    """A figure with all that a costume brings along: cape, coat tails, beard, brows, tassels."""
    figure = make_figure(Build(fingers=True, twist=True, root=True, spine=3))
    clip = Clip("dress", figure, 30, np.tile(figure.rest, (5, 1, 1)), [1], np.tile(figure.offsets[1], (5, 1, 1)))

    def hang(name, parent, place, step, count):
        nonlocal clip
        for n in range(count):
            clip = insert_joint(clip, f"{name} {n + 1}", parent, place if n == 0 else step)
            parent = f"{name} {n + 1}"

    for n, x in enumerate((-0.15, -0.05, 0.05, 0.15)):
        hang(f"cape {'abcd'[n]}", "spine 3", (x, 0.12, -0.12), (0.25 * x, -0.2, -0.05), 5)
    for n, x in enumerate((-0.16, -0.06, 0.06, 0.16)):
        hang(f"coat tail {'abcd'[n]}", "hips", (x, -0.02, -0.1), (0.2 * x, -0.15, -0.03), 4)
    for n, x in enumerate((-0.05, 0.0, 0.05)):
        hang(f"beard {'abc'[n]}", "head", (x, 0.03, 0.1), (0.0, -0.06, 0.01), 4)
    for side, x in (("left", 1), ("right", -1)):
        for name, place in (("brow", (0.03, 0.15, 0.1)), ("cheek", (0.05, 0.09, 0.09)), ("eye", (0.03, 0.12, 0.09))):
            hang(f"{side} {name}", "head", np.array(place) * [x, 1, 1], (0, 0, 0), 1)
        hang(f"{side} hat tassel", "head", (0.1 * x, 0.22, 0), (0.02 * x, -0.05, 0), 4)
    return clip


def main():
    """Walk the route and keep a picture of each main view."""
    app = make_app()
    window = Window(tempfile.mkdtemp())
    window.resize(1280, 800)
    window.show()
    os.environ["HOME"] = tempfile.mkdtemp()  # so that folders are shown as anybody's own
    folder = Path.home() / "quillmouth"
    session = window.session
    session.document.open(demo_state(folder), folder / "Quillmouth.marionette")
    names = {e.name: e.id for e in session.state.entries}
    recorded = session.state.recordings[0]
    OUT.mkdir(exist_ok=True)

    def shot(name, wait=1.0):
        end = time.monotonic() + wait
        while time.monotonic() < end:
            app.processEvents()
            time.sleep(0.005)
        window.grab().save(str(OUT / f"{name}.png"))

    session.seek(95)
    shot("gather")
    session.go("string")
    session.choose(part="left forearm")
    shot("string")
    session.do(do.Choose(names["sweep_quay"]))
    session.do(do.Choose(names["Gull"], as_rig=True))
    window.desks["string"].region.setCurrentText("Left hand")
    session.choose(part="left index")
    session.seek(60)
    shot("string_hand")
    window.desks["string"].region.setCurrentText("Body")
    full_dress = Path(tempfile.mkdtemp()) / "harbour_master_in_full_dress.bvh"
    write(full_dress, dressed_up())
    window.files.open_paths([full_dress])
    while window.running.jobs:
        app.processEvents()
    session.do(do.Choose(session.state.entries[-1].id, as_rig=True))
    session.choose(part="head")
    shot("string_extras")
    session.undo()
    session.undo()
    session.do(do.Choose(names["light_lamp"]))
    session.do(do.Choose(names["Heron"], as_rig=True))
    session.go("stance")
    window.stage.look_from("front")
    session.do(do.ResetBone())
    session.choose(part="left upper arm", bone="leftUpperArm")
    shot("stance")
    session.do(do.MatchStance())
    session.do(do.Choose(names["carry_bucket"]))
    session.do(do.Choose(names["Puffin"], as_rig=True))
    session.go("transfer")
    session.seek(100)
    window.stage.look_from("corner")
    window.stage.trails.setChecked(True)
    session.choose()
    window.stage.frame()
    shot("transfer")
    window.stage.trails.setChecked(False)
    session.do(do.Choose(names["climb_ladder"]))
    session.do(do.Choose(names["Heron"], as_rig=True))
    session.do(do.DrawContact(session.state.source, "left toe", 96, 150))
    session.choose_contact("left toe", 120)
    session.seek(120)
    window.stack.setSizes([360, 340])
    window.stage.frame()
    shot("contacts", 2.0)
    session.undo()
    session.choose_contact(None)
    window.tell("")
    session.do(do.Choose(names["sweep_quay"]))
    session.do(do.Choose(names["Gull"], as_rig=True))
    session.seek(70)
    session.dress_as("through")
    window.timeline.asked.emit()  # the whole stage for the bodies
    session.choose(part="left forearm")
    window.stage.frame()
    shot("bodies")
    window.timeline.asked.emit()
    session.choose()
    session.dress_as("body")
    session.do(do.Choose(names["carry_bucket"]))
    session.do(do.Choose(names["Puffin"], as_rig=True))
    session.do(do.Bake())
    session.do(do.Choose(names["light_lamp"]))
    session.do(do.Choose(names["Heron"], as_rig=True))
    session.do(do.Bake())
    session.do(do.Choose(names["wave_to_ship"]))
    session.do(do.Bake())
    session.compare_with(session.baked[-1].id)
    session.go("refine")
    settings.put("curves/refine", True)
    session.step_changed.emit()
    desk = window.desks["refine"]
    desk.add_pass(Spikes())
    desk.add_pass(Adaptive())
    session.choose_pass(session.refined.passes[0].id)
    session.show_curves_of(("rightShoulder", "leftUpperArm"))
    session.seek(110)
    window.timeline.scale.show(90, 211)
    shot("refine", 2.5)
    session.undo()
    desk.add_pass(LowPass())
    desk.settings.suggest.emit()
    shot("curves", 1.5)
    desk.settings.why.emit()
    session.show_curves_of(("rightLowerArm",))
    shot("curves", 1.5)
    session.undo()
    session.undo()
    settings.put("curves/refine", False)
    settings.put("lanes/refine", True)
    session.do(do.Choose(names["light_lamp"]))
    session.do(do.Bake())
    session.compare_with(session.baked[-1].id)
    session.step_changed.emit()
    desk.add_pass(Thin())
    while session.passing.busy or session.passing.lags:
        app.processEvents()
    OUT.joinpath("thinning.png").unlink(missing_ok=True)
    comparison(session.refined.passed).save(str(OUT / "thinning.png"))
    window.timeline.scale.show(0, 240)
    pose = session.passing.poses.frames[9]
    session.seek(pose)
    session.choose_keys((pose,))
    session.show_curves_of(("leftHand",))
    shot("poses", 2.0)
    session.show_curves_of(())
    settings.put("lanes/refine", False)
    session.go("deliver")
    desk, rigs = window.desks["deliver"], frozenset(names[n] for n in ("Heron", "Gull"))
    session.ask_for(folder="~/quillmouth/delivered", rigs=rigs, endings=(".glb",), body=True)
    session.tick([e for e in session.state.entries if e.name in ("haul_rope", "ring_bell", "sweep_quay")], True)
    desk._tie()
    desk.write_now()
    while desk.deliveries.busy:
        shot("deliver", 0.2)
    shot("deliver")
    session.go("gather")
    window.snag_panel.toggle()
    shot("snags")
    window.snag_panel.toggle()
    session.look_at(recorded.id)
    while session.solving.solution(recorded) is None:
        shot("markers", 0.2)
    session.choose_marker("quay:LTHI")
    window.desks["gather"]._area.verticalScrollBar().setValue(225)
    session.seek(700)
    window.stage.camera.glide(yaw=0.9)
    window.stage.frame()
    shot("markers", 2.5)
    card = window.desks["gather"].recording
    card.by_hand.setChecked(True)
    session.do(do.SizeFigure(recorded.id, (("leftLowerLeg", 0.445),), True))
    card.sizing.pick(session.solving.take(recorded).skeleton.index["leftLowerLeg"])
    while session.solving.lags(session.solving.entry):
        shot("sizing", 0.2)
    window.desks["gather"]._area.verticalScrollBar().setValue(300)
    window.stage.frame()
    shot("sizing", 2.5)
    session.document.open(on_controls(demo_state(folder)), folder / "Quillmouth.marionette")
    session.go("refine")
    session.arrange("marionette")
    session.choose_pass("lamp-is-higher")
    session.show_curves_of(("hips",))
    session.seek(150)
    window.stage.look_from("side")
    shot("controls")
    window.stage.camera.orbit(120, 10)
    window.stage.frame()
    shot("controls", 2.5)
    sys.stdout.flush()
    os._exit(0)


def comparison(passed):
    """How far thinning, and deleting keys blindly, are off on each frame; the numbers are printed as a table."""
    dense, poses = passed.clip, passed.stage().poses
    last = dense.frames - 1
    ways = [("Thinned within 1 cm", poses.after[0], poses.deviation)]
    for name, kept in (
        ("Every fifth key deleted", [f for f in range(dense.frames) if f % 5 != 4 or f == last]),
        ("Every second key deleted", [*range(0, last, 2), last]),
        ("All but every fifth deleted", [*range(0, last, 5), last]),
        (f"{poses.after[0]} keys kept evenly", [round(i * last / (poses.after[0] - 1)) for i in range(poses.after[0])]),
    ):
        ways.append((name, len(kept), blind(dense, kept)))
    print("| | keys on the timeline | largest | RMS |\n|---|---|---|---|")
    picture = QPixmap(1000, 60 + 74 * len(ways))
    picture.fill(theme.colour("base"))
    p = QPainter(picture)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setFont(theme.font(13))
    for i, (name, count, off) in enumerate(ways):
        print(f"| {name} | {count} | {off.places.largest * 100:.2f} cm | {off.places.rms * 100:.2f} cm |")
        top, foot = 20 + 74 * i, 80 + 74 * i
        p.fillRect(QRectF(270, top, 700, 60), theme.colour("raised"))
        p.setPen(theme.colour("text"))
        p.drawText(QRectF(16, top, 244, 30), Qt.AlignmentFlag.AlignVCenter, name)
        p.setPen(theme.colour("quiet"))
        p.drawText(
            QRectF(16, top + 28, 244, 26), f"{count} of {dense.frames} frames, {off.places.largest * 100:.1f} cm"
        )
        points = [
            QPointF(270 + 700 * f / last, max(foot - 12 * 100 * float(v), top)) for f, v in enumerate(off.lane.tolist())
        ]
        p.setPen(QPen(theme.colour("brass" if i == 0 else "marionette"), 1.6))
        p.drawPolyline(QPolygonF(points))
        p.setPen(QPen(theme.colour("quiet"), 1, Qt.PenStyle.DashLine))
        p.drawLine(QPointF(270, foot - 12), QPointF(970, foot - 12))
    p.setPen(theme.colour("quiet"))
    told = f"Off the dense motion, frames 0 to {last}; dashed: 1 cm; a lane is 5 cm high"
    p.drawText(QRectF(270, 24 + 74 * len(ways), 700, 24), told)
    p.end()
    return picture


if __name__ == "__main__":
    main()
