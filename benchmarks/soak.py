"""``./run bench soak [SECONDS]``: steady edits in a real window; how much memory that takes in the end."""

import os
import random
import tempfile
import time
from pathlib import Path

GOAL, WARM = 60.0, 30.0  # megabytes in five minutes; seconds before they count


def resident():
    """Megabytes of memory that this process holds."""
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


def main(words, console):
    """Edit for some seconds; the exit code is 1 where memory grew beyond the goal."""
    seconds = float(words[0]) if words else 300.0
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as folder:
        for place in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME"):
            os.environ[place] = folder
        return _soak(seconds, Path(folder), console)


def _soak(seconds, folder, console):
    from PySide6.QtCore import QTimer

    from young_marionette.app.main import make_app
    from young_marionette.app.window import Window
    from young_marionette.core.evaluator import EVALUATOR
    from young_marionette.demo.example import demo_state
    from young_marionette.project import commands as do

    app = make_app()
    window = Window(folder / "recovery")
    window.resize(1280, 800)
    window.show()
    session = window.session
    session.document.open(demo_state(folder / "show"), None)
    rng, edits, levels = random.Random(1), 0, []

    def edit():
        state = session.state
        clips, rigs = state.of_role("clip"), [e for e in state.of_role("rig") if e.figure.body]
        kind = rng.randrange(9)
        pairing = state.pairing
        if kind == 0 or pairing is None:
            session.do(do.Choose(rng.choice(clips).id))
            session.do(do.Choose(rng.choice(rigs).id, as_rig=True))
        elif kind == 1:
            session.do(do.Correct(state.source, (("lift", rng.uniform(-0.2, 0.2)),)))
        elif kind == 2:
            session.do(do.Bake())
        elif kind == 3 and state.bakes:
            session.do(do.Remove(rng.choice(state.bakes).id))
        elif kind == 4:
            session.do(do.SetTransfer((("stride", rng.uniform(0.5, 1.5)),)))
        elif kind == 5:
            session.go(rng.choice(("gather", "string", "stance", "transfer", "refine", "deliver")))
        elif kind == 6:
            session.undo()
        elif kind == 7:
            session.seek(rng.randrange(session.frames))
        else:
            bone = rng.choice(pairing.target.names)
            for _ in range(8):
                session.drag(do.TurnBone(bone, (rng.uniform(-0.02, 0.02), 0, 0)), settled=False)
            session.end_drag()
        if len(state.bakes) > 12:
            session.do(do.Remove(state.bakes[0].id))

    # In the event loop that the window has in earnest: what is to be deleted later is deleted there alone.
    began = time.monotonic()

    def beat():
        nonlocal edits
        edit()
        edits += 1
        now = time.monotonic()
        # What every session comes to hold (pictures, shaders, the fonts) is there after a while.
        if now - began > WARM and (not levels or now - levels[-1][0] > 10):
            levels.append((now, resident()))
        if now - began > seconds + WARM:
            app.quit()

    timer = QTimer(interval=40)
    timer.timeout.connect(beat)
    timer.start()
    app.exec()
    timer.stop()
    grown = levels[-1][1] - levels[0][1]
    told = ", ".join(f"{level:.0f}" for _, level in levels[:: max(1, len(levels) // 12)])
    steps = len(session.document._undo)
    console.print(f"{edits} edits in {seconds:.0f} s: {told} MB; grew by {grown:.0f} MB (goal {GOAL:.0f} in 5 minutes)")
    console.print(f"{steps} steps can be undone; the evaluator holds {EVALUATOR.size / 1e6:.0f} MB")
    window.session.document.mark_saved(None)
    window.close()
    return 1 if grown > GOAL else 0
