"""Golden motions: a dozen results of the show as world positions. Whoever changes them says in the commit why they moved.

``.venv/bin/python -m tests.outside.test_golden`` writes them anew.
"""

import json
from pathlib import Path

import numpy as np

from tests.support import Case, joints_at, show_folder
from young_marionette import api

FILE = Path(__file__).parent / "golden.json"
FRAMES = 5  # of each result, evenly over it
WITHIN = 0.0005  # metres
RESULTS = [
    ("quay/walk_the_wall.bvh", "Heron", {}),
    ("quay/walk_the_wall.bvh", "Puffin", {}),
    ("quay/climb_ladder.bvh", "Heron", {}),
    ("quay/climb_ladder.bvh", "Gull", {"feet": "free", "hands": "directions", "clear": "off"}),
    ("quay/light_lamp.bvh", "Puffin", {}),
    ("quay/carry_bucket.bvh", "Heron", {"stride": 1.0, "height_offset": 0.02}),
    ("quay/haul_rope.bvh", "Gull", {"in_place": ("x", "z")}),
    ("quay/wave_to_ship.bvh", "Heron", {"feet": "free", "hands": "directions", "clear": "off"}),
    ("loft/sweep_quay.bvh", "Gull", {"root": ("x", "z", "turn")}),
    ("loft/ring_bell.bvh", "Puffin", {"hands": "places"}),
    ("loft/row_boat.bvh", "Heron", {}),
    ("loft/sweep_quay.bvh", "Heron", {"ahead": True, "start": "origin"}),
]


def results():
    """``(name, {joint: (frames, 3)} in metres)`` of each result."""
    for clip, rig, settings in RESULTS:
        take = api.retarget(
            api.read(show_folder() / clip), api.read_rig(show_folder() / "puppets" / f"{rig}.bvh"), **settings
        )
        at = np.linspace(0, take.frames - 1, FRAMES).astype(int)
        places = joints_at(take.clip)[at]
        words = ", ".join(f"{k}={v}" for k, v in settings.items())
        yield (
            f"{clip} on {rig}" + (f" ({words})" if words else ""),
            dict(zip(take.clip.skeleton.names, places.swapaxes(0, 1))),
        )


class Golden(Case):
    def test_results_are_where_they_were(self):
        kept = json.loads(FILE.read_text())
        seen = dict(results())
        self.assertEqual(list(seen), list(kept))
        for name, joints in seen.items():
            self.assertEqual(list(joints), list(kept[name]), name)
            away = {joint: np.abs(places - kept[name][joint]).max() for joint, places in joints.items()}
            worst = max(away, key=away.get)
            self.assertLess(away[worst], WITHIN, f"{name}: {worst} moved by {away[worst] * 1000:.1f} mm")


if __name__ == "__main__":
    made = {name: {j: np.round(p, 4).tolist() for j, p in joints.items()} for name, joints in results()}
    FILE.write_text(json.dumps(made, separators=(",", ":")).replace("},", "},\n") + "\n")
