"""The full example: three takes onto three puppets, then the whole show by a recipe, and the project to open in the window."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from rich.table import Table

from .. import api
from ..core.filters.methods import Adaptive
from ..core.passes.correction import Correction
from ..core.passes.stack import Pass
from ..formats import read, write
from ..formats.files import write_together
from ..project import bakes, delivery, opening, storage
from ..project import stringing as stringings
from ..project.batch import recipe as recipes
from ..project.batch.asking import Asked
from ..project.batch.job import DONE
from ..project.batch.recipe import Recipe, RootMotion
from ..project.batch.report import write_report
from ..project.cleaning import cleaned
from ..project.commands import AddEntries, AddPass, AddRecordings, Bake, BakeOntoControls, Choose, Remove
from ..project.document import Document, State
from ..project.entry import entries_of
from ..project.markers.entry import marker_entries, take_of
from ..project.markers.files import encode_figure
from ..project.markers.showing import told_faults
from ..wording.facts import rest_pose_words
from ..wording.findings import certainty_words
from ..wording.markers import fault_words
from .props import PROPS
from .show import write_show

MARKERS = "markers/walk_the_wall.c3d", "puppets/Heron.bvh"
T_POSE = "markers/quay_t_pose.c3d"
DIRTY = "quay/wave_to_ship.bvh"
SHOWN = (
    ("quay/light_lamp.bvh", "puppets/Heron.bvh"),
    ("quay/carry_bucket.bvh", "puppets/Puffin.bvh"),
    ("loft/sweep_quay.bvh", "puppets/Gull.bvh"),
)


def play(folder, console):
    """Write the show under ``folder``, retarget three of its takes, deliver all of them, and print what was done."""
    folder = Path(folder)
    start = time.perf_counter()
    paths = write_show(folder)
    console.print(
        f"Quillmouth, a small harbour town, keeps its lamps by hand. {len(paths)} files of its show are in {folder} "
        f"({time.perf_counter() - start:.1f} s).\n"
    )
    table = Table(box=None, pad_edge=False)
    for title in (
        "take",
        "onto",
        "strings",
        "least certain",
        "stance",
        "frames",
        "read",
        "tie, match",
        "bake",
        "write",
    ):
        table.add_column(
            title, justify="right" if title in ("frames", "read", "tie, match", "bake", "write") else "left"
        )
    written = []
    for source_name, rig_name in SHOWN:
        row, files = _one(folder, folder / source_name, folder / rig_name)
        table.add_row(*row)
        written += files
    console.print(table)
    written += _from_markers(folder, console)
    written.append(_cleaned(folder, console))
    written.append(_thinned(folder, console))
    written += _delivered(folder, console)
    project = folder / "Quillmouth.marionette"
    storage.save(project, on_controls(demo_state(folder, paths)))
    console.print("\nWritten:")
    for path in (*written, project):
        console.print(f"  {path} ({path.stat().st_size / 1000:.0f} kB)")
    console.print("Open the window on it with ./run, or young-marionette-window and the project's name.")


def _one(folder, source_path, rig_path):
    clock = [time.perf_counter()]

    def lap():
        clock.append(time.perf_counter())
        return f"{(clock[-1] - clock[-2]) * 1000:.0f} ms"

    source, rig = opening.open_source(source_path), opening.open_rig(rig_path)
    reading = lap()
    pairing = delivery.pair_files(source, rig)
    left = max(limb.angle for limb in pairing.limbs)
    pairing_time = lap()
    baked, _ = bakes.baked(pairing, source, rig)
    baking = lap()
    out = folder / f"{source.name} on {rig.name}.bvh"
    delivery.deliver(out, baked, rig, overwrite=True)
    writing = lap()
    saved = folder / f"{source_path.parent.name} to {rig.name}.stringing"
    stringings.save(saved, stringings.to_file(pairing, source, rig, saved.stem), overwrite=True)
    least = min(pairing.strings, key=lambda s: s.certainty)
    row = (
        f"{source.name} ({source_path.parent.name})",
        rig.name,
        str(len(pairing.strings)),
        f"{least.part} {certainty_words(least.certainty)}",
        f"{rest_pose_words(source.figure.rest_pose)} to {rest_pose_words(rig.figure.rest_pose)}, {left:.2f}° left",
        str(baked.frames),
        reading,
        pairing_time,
        baking,
        writing,
    )
    return row, [out, saved]


def _from_markers(folder, console):
    """Solve a recording of markers and put the take on a puppet; gives the files that were written."""
    path, rig = folder / MARKERS[0], opening.open_rig(folder / MARKERS[1])
    entry = opening.open_recording(path)
    entry = replace(
        entry.changed(trim=entry.place.use), reference=opening.open_recording(folder / T_POSE).own_reference
    )
    begun = time.perf_counter()
    solution = entry.solved()
    took = time.perf_counter() - begun
    source = take_of(entry, solution)
    take, figure = folder / f"{path.stem} solved.bvh", folder / "quay.figure"
    write(take, source.take, overwrite=True)
    write_together(encode_figure(figure, solution.figure))
    baked, _ = bakes.baked(delivery.pair_files(source, rig), source, rig)
    out = folder / f"{path.stem} solved on {rig.name}.bvh"
    delivery.deliver(out, baked, rig, overwrite=True)
    off = float(np.nanmedian(solution.off)) * 1000
    console.print(
        f"\n{path.name}: {len(solution.on)} markers solved on {source.take.frames} frames in {took:.1f} s, onto a figure of "
        f"{solution.figure.stature:.2f} m; usually {off:.1f} mm off; then onto {rig.name}. Faults found and mended:"
    )
    for fault in told_faults(entry, solution):
        console.print(f"  {fault_words(fault, entry.recording.labels)}")
    return [take, figure, out]


def _cleaned(folder, console):
    """Clean the take that came with spikes and jitter, and say what that did; gives the file that was written."""
    take = api.read(folder / DIRTY)
    begun = time.perf_counter()
    clean = api.filter(api.take_of(take), spikes=True, methods=[Adaptive()])
    done = cleaned(clean.passed)
    took = time.perf_counter() - begun
    out = folder / f"{take.name} clean.bvh"
    api.write(clean, out, overwrite=True)
    spikes, changes = sum(map(len, done.spikes.values())), done.changes
    console.print(
        f"\n{take.name} came with spikes and jitter. {spikes} spikes taken out and jitter smoothed in {took * 1000:.0f} ms: "
        f"rotations changed by {changes.degrees[0]:.1f}° RMS; feet slide {changes.slides[1] * 1000:.1f} mm where they stand, "
        f"{changes.slides[0] * 1000:.0f} mm before; highest speed of hands and feet {changes.peaks[0]:.1f} m/s before, "
        f"{changes.peaks[1]:.1f} m/s after."
    )
    return out


def _thinned(folder, console):
    """Thin one of the bakes to few poses, and tell the numbers; gives the file that was written."""
    source_name, rig_name = SHOWN[0]
    baked = api.read(folder / f"{Path(source_name).stem} on {Path(rig_name).stem}.bvh")
    begun = time.perf_counter()
    made = api.thin(api.take_of(baked))
    took = time.perf_counter() - begun
    poses, off = made.poses, made.poses.deviation
    out = folder / f"{baked.name} thinned.glb"
    api.write(made, out, overwrite=True)
    console.print(
        f"\n{baked.name} thinned within 1 cm in {took:.1f} s: {poses.before[0]} frames became {poses.after[0]} poses "
        f"({poses.gone:.0%} gone), {poses.before[1]:,} keys became {poses.after[1]:,}; off by {off.places.largest * 100:.2f} cm "
        f"at most ({off.places.name}, frame {off.places.frame}), {off.places.rms * 100:.2f} cm RMS; planted points by "
        f"{off.planted.largest * 100:.2f} cm."
    )
    return out


def _delivered(folder, console):
    """Deliver all takes of the show onto all puppets' bodies by a recipe; gives the recipe and the report."""
    recipe, report = folder / "theatre.recipe", folder / "delivery.html"
    # One of the puppets has a root bone, the others are given one.
    travel = RootMotion(root=("x", "z"), start="origin", bone="add")
    recipes.save(recipe, Recipe(name="theatre", endings=(".glb",), fps=30.0, from_zero=True, travel=travel), True)
    bodies = tuple(str(p) for p in sorted((folder / "puppets/bodies").iterdir()))
    sources = (str(folder / "quay"), str(folder / "loft"))
    begun = time.perf_counter()
    asked = Asked(sources, bodies, str(folder / "delivery"), recipes.load(recipe), overwrite=True)
    delivery = asked.delivery()
    delivery.measure(pictures=2)
    items = delivery.run()
    took = time.perf_counter() - begun
    write_report(report, items, delivery.jobs[0].order, took, overwrite=True)
    done = [item for item in items if item.state == DONE]
    slide = max((item.measures.slide[1] for item in done if item.measures), default=0.0)
    console.print(
        f"\nThe whole show by the recipe {recipe.name}: {len(done)} clips delivered onto {len(bodies)} puppets with their bodies "
        f"in {took:.0f} s, {sum(i.size for i in done) / 1e6:.0f} MB; {len(items) - len(done)} left alone or failed; where feet "
        f"stand they slide up to {slide * 1000:.1f} mm. What became of each: {report.name}."
    )
    for item in items:
        if item.state != DONE and item.rig == bodies[0]:
            console.print(f"  {item.why}")
    return [recipe, report]


def demo_state(folder, paths=None):
    """The show as a project state: all clips, the puppets as rigs, the lamplighter on Heron active.

    Where a puppet's body is among the files, that is the rig, and not its bare skeleton.
    """
    paths = write_show(folder) if paths is None else paths
    bodies = {p.stem for p in paths if p.parent.name == "bodies"}
    entries, recordings = [], []
    for path in paths:
        puppet = "puppets" in path.parts
        if puppet and path.parent.name != "bodies" and path.stem in bodies:
            continue
        file = read(path)
        recordings += marker_entries(file)
        for entry in entries_of(file):
            props = () if puppet else PROPS.get(entry.name, ())
            entries.append(replace(entry, role="rig" if puppet else "clip", props=props))
    document = Document(State(name="Quillmouth"))
    document.do(AddEntries(tuple(entries)), AddRecordings(tuple(recordings)))
    by_name = {e.name: e.id for e in document.state.entries}
    document.do(Choose(by_name["light_lamp"]))
    document.do(Choose(by_name["Heron"], as_rig=True))
    return document.state


def on_controls(state):
    """The project with light_lamp baked onto Heron's controls, under a layer: the hips lower over feet that stay, the head up."""
    document = Document(state)
    document.do(Bake())
    bones = document.state.bakes[-1]
    document.do(BakeOntoControls(bones.id), Remove(bones.id))
    clip = document.state.bakes[-1]
    layer = Correction(
        110, 1.2, (("head", (-0.14, 0.0, 0.0)),), (("hips", (0.0, -0.03, 0.0)),),
        ((150, (("head", (-0.22, 0.0, 0.0)),), (("hips", (0.0, -0.05, 0.0)),)),), strengths=((40, 0.0), (90, 1.0)),
    )  # fmt: skip
    document.do(AddPass(clip.id, Pass("lamp-is-higher", layer)))
    return document.state
