"""Make the pictures in docs/screenshots anew, from the demo show: ``.venv/bin/python docs/make_screenshots.py``."""

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for place in ("XDG_CONFIG_HOME", "XDG_DATA_HOME"):
    os.environ[place] = tempfile.mkdtemp()

from young_marionette.app import settings  # noqa: E402
from young_marionette.app.main import make_app  # noqa: E402
from young_marionette.app.window import Window  # noqa: E402
from young_marionette.core.filters.methods import Adaptive, LowPass, Spikes  # noqa: E402
from young_marionette.demo.example import demo_state  # noqa: E402
from young_marionette.project import commands as do  # noqa: E402

OUT = Path(__file__).parent / "screenshots"


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
    session.go("deliver")
    window.desks["deliver"].folder.setText("~/quillmouth")
    window.desks["deliver"].suffix.setText("_v1")
    shot("deliver")
    session.go("gather")
    window.snag_panel.toggle()
    shot("snags")
    sys.stdout.flush()
    os._exit(0)


if __name__ == "__main__":
    main()
