"""The stage's picture, start-up, and how long the interface stands still while files are opened."""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from young_marionette.project.commands import Tag, TieBones, TurnBone

from .measure import best, plain, row


def _window(bodies=False):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    for place in ("XDG_CONFIG_HOME", "XDG_DATA_HOME"):
        os.environ[place] = tempfile.mkdtemp()
    from young_marionette.app.main import make_app
    from young_marionette.app.window import Window
    from young_marionette.demo.example import demo_state
    from young_marionette.demo.show import write_show

    app = make_app()
    window = Window(tempfile.mkdtemp())
    window.resize(1280, 800)
    window.show()
    folder = Path(tempfile.mkdtemp())
    paths = write_show(folder)
    bare = [p for p in paths if p.suffix == ".bvh"]
    window.session.document.open(demo_state(folder, paths if bodies else bare), None)
    app.processEvents()
    return app, window, folder


def stage_picture():
    """A picture of both figures against an empty stage of the same size."""
    app, window, _ = _window()
    stage = window.stage
    size = (stage.width(), stage.height())
    draw = stage.renderer.draw
    pose = stage.camera.pose
    moving, fine, empty = best(
        lambda: draw(size, pose, stage.figures),
        lambda: draw(size, pose, stage.figures, (), True),
        lambda: draw(size, pose, []),
    )
    note = f"{size[0]} x {size[1]}, {stage.renderer.describe().split(' (')[0]}"
    yield row("stage picture, playing", moving, empty, None, note)
    yield row("stage picture, at rest", fine, empty, None, note + ", smooth edges")

    yield from _changes(app, window, "")
    window.session.document.mark_saved(None)
    window.close()
    app, window, _ = _window(True)
    yield from _changes(app, window, ", on a body of 12,900 triangles")
    window.session.document.mark_saved(None)
    window.close()


def large_window():
    """Pictures in a window of 2560 x 1440 while the demo show's bodies play, from the session's frame to the screen."""
    app, window, _ = _window(True)
    window.resize(2560, 1440)
    session, stage = window.session, window.stage
    end = time.perf_counter() + 1
    while time.perf_counter() < end:
        app.processEvents()

    times = []
    for frame in range(40):
        start = time.perf_counter()
        session.seek(frame)
        stage.repaint()
        times.append(time.perf_counter() - start)
        app.processEvents()
    note = f"{stage.width()} x {stage.height()}, two bodies, {stage.renderer.describe().split(' (')[0]}"
    yield plain("stage picture, playing in a large window", float(np.median(times)), 1 / 30, note)
    window.session.document.mark_saved(None)
    window.close()


def two_bodies():
    """Two bodies of 20,000 triangles each, a morph included, on the stage of the usual window."""
    from dataclasses import replace

    from young_marionette.core.figure.facts import place_figure
    from young_marionette.core.scene.figure import Bones, Figure
    from young_marionette.core.skeleton import pose_world
    from young_marionette.demo.puppets import puppet

    _app, window, _ = _window()
    stage = window.stage
    clip, character = puppet("Gull")
    character = replace(character, meshes=character.at_level(0))
    count = sum(len(m.triangles) for m in character.meshes)
    skeleton = clip.skeleton
    body = place_figure(skeleton).body
    bones = Bones.of(skeleton, body, 1.72)
    rng = np.random.default_rng(1)
    wave = np.cumsum(rng.normal(0, 0.02, (30, len(skeleton), 3)), 0)
    from young_marionette.core import rotations as rot

    poses = [pose_world(skeleton, rot.multiply(skeleton.rest, rot.from_vector(v))) for v in wave]
    pair = [replace(character), replace(character)]
    turn = [0]

    def figures():
        turn[0] += 1
        places, turns = poses[turn[0] % len(poses)]
        return [
            Figure(
                kind,
                kind,
                bones,
                places,
                turns,
                np.array([x, 0.0, 0.0]),
                character=body_of,
                skeleton=skeleton,
                weights={"blink": turn[0] % 30 / 30, "jaw_open": turn[0] % 20 / 20},
                dress="body",
            )
            for kind, x, body_of in (("performer", -0.8, pair[0]), ("marionette", 0.8, pair[1]))
        ]

    size, pose, draw = (stage.width(), stage.height()), stage.camera.pose, stage.renderer.draw
    moving, empty = best(lambda: draw(size, pose, figures()), lambda: draw(size, pose, []))
    note = f"{2 * count:,} triangles, morphs, {size[0]} x {size[1]}, {stage.renderer.describe().split(' (')[0]}"
    yield plain("two skinned bodies, a picture", moving, 1 / 30, note)
    yield row("two skinned bodies against an empty stage", moving, empty, None, note)
    window.session.document.mark_saved(None)
    window.close()


def _changes(app, window, told):
    """From a change to the picture of it on the stage: command, transfer of the frame, drawing on the widget."""
    session, stage, drawn = window.session, window.stage, []
    stage.drawn.connect(lambda: drawn.append(time.perf_counter()))
    strings = [s for s in session.state.pairing.strings if s.part.endswith(" forearm")]

    def turn(_):
        session.drag(TurnBone(strings[0].target[0], (0.01, 0, 0)), settled=False)

    def tie(i):
        session.do(TieBones(strings[0].part, strings[i % 2].source, strings[0].target))

    for step, name, change in (("stance", "changed angle", turn), ("string", "changed string", tie)):
        session.go(step)
        times = []
        for i in range(40):
            calm = time.perf_counter() + (0.4 if i < 2 else 0.06)
            while time.perf_counter() < calm:
                app.processEvents()
            drawn.clear()
            start = time.perf_counter()
            change(i)
            app.processEvents()
            times.append(drawn[0] - start)
        note = "software drawing and the window's answer included"
        yield plain(f"{name} to its picture on the stage{told}", float(np.median(times)), 0.016, note)


def _settle(app):
    """What the first pictures cost is the start's affair, not that of what is measured."""
    calm = time.perf_counter() + 1.5
    while time.perf_counter() < calm:
        app.processEvents()


def _idle(window):
    return not window.running.jobs


def _stalls(app, begin, done):
    """``(seconds in all, seconds between heartbeats)`` from the beginning of something until a little after it is done.

    The heart beats in the event loop: where it pauses, the window does not answer.
    """
    from PySide6.QtCore import QTimer

    beats = [time.perf_counter()]
    heart = QTimer(interval=1)
    heart.timeout.connect(lambda: beats.append(time.perf_counter()))
    heart.start()
    begin()
    while not done():
        app.processEvents()
        time.sleep(0.001)
    total = time.perf_counter() - beats[0]
    calm = time.perf_counter() + 0.5
    while time.perf_counter() < calm:
        app.processEvents()
        time.sleep(0.001)
    heart.stop()
    return total, np.diff(beats)


def a_project_of_300_clips():
    """The longest time that the interface stands still while a large project is opened, edited, saved and left."""
    from young_marionette.project import storage

    from .projects import many_clips

    app, window, folder = _window()
    path, session, files = folder / "many.marionette", window.session, window.files
    storage.save(path, many_clips())
    session.document.mark_saved(None)
    _settle(app)
    total, stalls = _stalls(
        app, lambda: files.open_paths([path]), lambda: _idle(window) and len(session.state.entries) == 300
    )
    yield plain("opening a project of 300 clips, in all", total, None, "off the interface thread")
    note = f"99 % of turns under {np.percentile(stalls, 99) * 1000:.0f} ms"
    yield plain("opening a project of 300 clips, longest stall", max(stalls), 0.1, note)

    def edit_and_save():
        session.do(Tag(session.state.entries[7].id, ("dusk",)))
        files.save()

    _settle(app)
    _, stalls = _stalls(app, edit_and_save, lambda: _idle(window) and not session.document.unsaved)
    yield plain("one edit of it, and saving, longest stall", max(stalls), 0.1)
    session.do(Tag(session.state.entries[8].id, ("dawn",)))
    start = time.perf_counter()
    window.close()
    yield plain("closing it with an edit that is not saved", time.perf_counter() - start, 1.0)


def opening_two_hundred_clips():
    """The longest time that the interface stands still while 200 clips are opened."""
    app, window, folder = _window()
    source = (folder / "quay" / "light_lamp.bvh").read_bytes()
    many = Path(tempfile.mkdtemp())
    for i in range(200):
        (many / f"clip_{i:03d}.bvh").write_bytes(source)
    before = len(window.session.state.entries)
    _settle(app)
    total, stalls = _stalls(
        app,
        lambda: window.files.open_paths([many]),
        lambda: _idle(window) and len(window.session.state.entries) >= before + 200,
    )
    yield plain("opening 200 clips, in all", total, None, "off the interface thread")
    yield plain(
        "opening 200 clips, longest stall",
        max(stalls),
        0.05,
        f"99 % of turns under {np.percentile(stalls, 99) * 1000:.0f} ms",
    )
    window.session.document.mark_saved(None)
    window.close()


def start_up():
    """The window's start against importing Qt and NumPy alone."""

    def run(code):
        return lambda: subprocess.run(
            [sys.executable, "-c", code], check=True, env={**os.environ, "QT_QPA_PLATFORM": "offscreen"}
        )

    ours = (
        "from young_marionette.app.main import make_app; a = make_app(); from young_marionette.app.window import Window; import tempfile;"
        "w = Window(tempfile.mkdtemp()); w.show(); a.processEvents(); import os; os._exit(0)"
    )
    floor = "import PySide6.QtWidgets, numpy, scipy.interpolate, moderngl, pyqtgraph, pydantic"
    took, bare = best(run(ours), run(floor), times=3)
    yield row("start-up to the window shown", took, bare, None, "floor: importing the packages that it stands on")


def command_line():
    """What the command line takes for a small file, and for nothing, against loading NumPy alone."""
    file = Path(tempfile.mkdtemp()) / "lamp.bvh"
    from young_marionette.demo.show import write_show

    folder = Path(tempfile.mkdtemp())
    write_show(folder)
    file.write_bytes((folder / "quay" / "light_lamp.bvh").read_bytes())

    def run(*words):
        return lambda: subprocess.run([sys.executable, *words], check=True, stdout=subprocess.DEVNULL)

    ours = ("-m", "young_marionette.cli.main")
    info, told, numpy, bare = best(
        run(*ours, "info", file), run(*ours, "--help"), run("-c", "import numpy"), run("-c", "pass"), times=12
    )
    yield row("info of a small file", info, numpy, 2, "floor: Python with NumPy")
    yield row("--help", told, bare, None, "floor: Python alone")


BENCHMARKS = (
    stage_picture,
    large_window,
    two_bodies,
    a_project_of_300_clips,
    opening_two_hundred_clips,
    start_up,
    command_line,
)
