"""``young-marionette batch``: many clips onto rigs, with progress, and what became of each."""

from __future__ import annotations

import contextlib
import sys
import time
from pathlib import Path

from ..core.errors import Cancelled, InputError
from ..wording.findings import counted
from .console import print_json, say, tell_error

NOT_ALL = 3  # the exit code where some clips failed, or were left alone


def run(words):
    """Deliver what is asked for, and return the exit code."""
    from ..formats.files import check_free
    from ..project.batch.recipe import save

    asked = asked_for(words, tuple(map(str, words.sources)))
    if words.save_recipe:
        check_free(words.save_recipe, words.overwrite)
    delivery = asked.delivery()
    if words.save_recipe and not asked.dry:
        save(words.save_recipe, asked.recipe, words.overwrite)
    since = time.monotonic()
    items = watched(words, asked, delivery)
    if words.as_json:
        print_json(as_data(items))
    else:
        print_items(items, time.monotonic() - since)
        if words.report:
            say(f"Wrote {words.report}")
    left = [item for item in items if item.state == "failed" or item.exists]
    return NOT_ALL if left else 0


def watched(words, asked, delivery):
    """Run a delivery, telling how it goes; what became of its clips."""
    from ..project.batch.asking import carry_out

    try:
        with Teller(delivery, words.as_json) as teller:
            return carry_out(asked, delivery, teller.told)
    except (Cancelled, KeyboardInterrupt):
        done = sum(item.state == "done" for item in delivery.items)
        raise InputError(f"Stopped: {counted(done, 'clip')} delivered, all whole; go on with --resume.") from None


def watch(words):
    """Deliver what arrives in a folder, until it is interrupted."""
    from ..project.batch.cluster import cluster
    from ..project.batch.plan import check_folder
    from ..project.batch.watch import Watch

    if not words.folder.is_dir():
        raise InputError(f"There is no folder {words.folder}.")
    asked = asked_for(words, (str(words.folder),))
    order, rigs = asked.order, asked.on_rigs
    check_folder(asked.folder)
    Path(asked.folder).mkdir(parents=True, exist_ok=True)
    runner = None if asked.cluster is None else cluster(asked.cluster)
    say(f"Watching {words.folder}; stop with Ctrl+C")

    def told(_job, items):
        for item in items or ():
            say(line_of(item))
            sys.stdout.flush()

    one = Watch(words.folder, rigs, order, words.jobs, runner)
    with contextlib.suppress(KeyboardInterrupt):
        one.run(told, (lambda: False) if not words.once else one.emptied)
    return 0


def asked_for(words, sources):
    """What is asked for, as project.batch takes it."""
    from ..project.batch.asking import Asked

    return Asked(
        sources,
        tuple(map(str, words.rigs)),
        str(words.out),
        recipe_of(words),
        tuple(map(str, words.stringings)),
        words.overwrite,
        getattr(words, "resume", False),
        getattr(words, "dry_run", False),
        words.jobs,
        words.cluster,
        getattr(words, "report", None),
    )


def recipe_of(asked):
    """The recipe of a file, or a new one, with what else was asked for."""
    from pydantic import ValidationError

    from ..core.units import METRES
    from ..project.batch.names import check_template
    from ..project.batch.recipe import Recipe, load
    from .main import range_of, transfer_changes

    recipe = load(asked.recipe) if asked.recipe else Recipe()
    if asked.name is not None:
        check_template(asked.name)
    if asked.unit is not None and asked.unit.lower() not in METRES:
        raise InputError(f"'{asked.unit}' is not a known unit; use one of {', '.join(METRES)}.")
    if asked.up is not None and asked.up.upper().lstrip("+") not in ("Y", "Z"):
        raise InputError(f"'{asked.up}' can't be up; give Y or Z.")
    tree = recipe.model_dump()
    changes = transfer_changes(asked)
    tree["travel"] |= {name: changes[name] for name in tree["travel"] if name in changes}
    tree["travel"] |= {"bone": asked.root_bone} if asked.root_bone else {}
    given = {
        "endings": None
        if asked.format is None
        else ["." + e.strip().lower().lstrip(".") for e in asked.format.split(",")],
        "frames": range_of(asked.frames),
        "fps": asked.fps,
        "unit": asked.unit and asked.unit.lower(),
        "up": asked.up and asked.up.upper().lstrip("+"),
        "bones": asked.bones,
        "source_up": _axis(asked.source_up),
        "source_facing": _axis(asked.source_facing),
        "motion_only": None if asked.body is None else not asked.body,
        "feet": asked.feet,
        "hands": asked.hands,
        "from_zero": asked.from_zero or None,
        "prefix": False if asked.no_prefix else None,
        "ends": False if asked.no_ends else None,
        "object": None if asked.over is None else "" if asked.over == "keep" else asked.over,
        "together": asked.one_file or None,
        "subfolders": asked.subfolders or None,
    }
    tree |= {name: value for name, value in given.items() if value is not None}
    if asked.name is not None:
        tree["names"]["template"] = asked.name
    try:
        return Recipe.model_validate(tree)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise InputError(f"--{where}: {first['msg'].removeprefix('Value error, ')}.") from None


class Teller:
    """Progress: a bar on a terminal, else a line for each clip, on standard error where JSON is wanted."""

    def __init__(self, delivery, quiet):
        self.delivery, self.quiet, self.bar, self.task = delivery, quiet, None, None

    def __enter__(self):
        if sys.stderr.isatty():
            from rich.console import Console
            from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

            columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
            self.bar = Progress(*columns, console=Console(stderr=True), transient=True)
            self.task = self.bar.add_task("Clips", total=len(self.delivery.jobs))
            self.bar.start()
        return self

    def __exit__(self, *_error):
        if self.bar is not None:
            self.bar.stop()

    def told(self, job, items):
        """What became of a job."""
        if items is None:
            return
        if self.bar is not None:
            self.bar.update(self.task, completed=self.delivery.progress.done, description=Path(job.name).name)
        for item in items:
            if self.bar is None and not self.quiet:
                say(line_of(item))
            elif item.state == "failed":
                tell_error(line_of(item))


def line_of(item):
    """An item in one line."""
    names = ", ".join(Path(out).name for out in item.outs)
    if item.state == "done":
        again = ", by an earlier run" if item.before else ""
        return f"{names}: {counted(item.frames, 'frame')} at {item.rate:g} per second{again}"
    if item.state == "planned":
        return f"{item.source} → {', '.join(item.outs)}: {counted(item.frames, 'frame')} at {item.rate:g} per second"
    kind = "left alone" if item.state == "skipped" else "failed"
    return f"{item.source} on {Path(item.rig).stem}, {kind}: {item.why}"


def print_items(items, seconds):
    """What became of all clips, in a few lines."""
    done, planned, failed, skipped = (
        [i for i in items if i.state == state] for state in ("done", "planned", "failed", "skipped")
    )
    if sys.stderr.isatty():
        for item in (*failed, *skipped):
            say(line_of(item))
    for item in items:
        for note in item.notes:
            say(f"Note: {Path(item.source).name} on {Path(item.rig).stem}: {note}")
    if planned:
        say(f"{counted(len(planned), 'clip')} would be delivered, {len(failed)} can't be, {len(skipped)} left alone")
    else:
        size = sum(item.size for item in done) / 1e6
        say(
            f"{counted(len(done), 'clip')} delivered ({size:.1f} MB in {seconds:.1f} s), {len(failed)} failed, {len(skipped)} left alone"
        )


def as_data(items):
    """What became of all clips, as plain data."""
    told = {"done": [], "failed": [], "skipped": []}
    if any(item.state == "planned" for item in items):
        told["planned"] = []
    for item in items:
        one = {"source": item.source, "rig": item.rig, "clip": item.clip}
        if item.outs:
            one["out"] = item.outs[0]
            if len(item.outs) > 1:
                one["outs"] = list(item.outs)
        if item.state in ("done", "planned"):
            one |= {"frames": item.frames, "rate": item.rate, "seconds": round(item.seconds, 6)}
        if item.state == "done":
            one |= {"bytes": item.size, "keys": item.keys, "made_dense": item.made_dense, "before": item.before}
        if item.why:
            one["why"] = item.why
        if item.stringing:
            one["stringing"] = item.stringing
        if item.notes:
            one["notes"] = list(item.notes)
        if item.measures is not None:
            one["measures_mm"] = {
                name: [round(v * 1000, 3) for v in value] if isinstance(value, tuple) else round(value * 1000, 3)
                for name, value in vars(item.measures).items()
            }
        if item.state == "skipped":
            one.setdefault("out", None)  # of what would not be written at all
        told[item.state].append(one)
    return told


def _axis(text):
    """An axis such as ``"-Y"`` from what was typed, or None; InputError for anything else."""
    from ..core.figure.placement import axis_name, axis_vector

    return None if text is None else axis_name(axis_vector(text))
