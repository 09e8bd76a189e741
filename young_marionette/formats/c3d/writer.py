"""Writing C3D: real numbers, Intel, with labels, unit, rate and residuals."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from ...core.errors import InputError
from ...core.markers.recording import Recording
from ..files import Output

_MOST_FRAMES = 65_535


def encode_markers(path: Path, recording: Recording, unit: str, up: str) -> list[Output]:
    """The file that holds a recording, whose points are in ``unit`` (such as ``"mm"``), with the axis ``up`` (such as ``"+Z"``) up."""
    import ezc3d

    if recording.frames > _MOST_FRAMES:
        raise InputError(f"{path.name} can't be written: C3D holds at most {_MOST_FRAMES} frames.")
    file = ezc3d.c3d()
    labels = list(recording.labels)
    file["parameters"]["POINT"]["RATE"]["value"] = [recording.rate]
    for number, start in enumerate(range(0, max(len(labels), 1), 255)):
        name = "LABELS" if number == 0 else f"LABELS{number + 1}"
        some = labels[start : start + 255]
        if number == 0:
            file["parameters"]["POINT"]["LABELS"]["value"] = some
        else:
            file.add_parameter("POINT", name, some)
    file["parameters"]["POINT"]["UNITS"]["value"] = [unit]
    file.add_parameter("POINT", "X_SCREEN", ["+X"])
    file.add_parameter("POINT", "Y_SCREEN", [up])
    points = np.full((4, len(labels), recording.frames), 1.0)
    points[:3] = recording.points.transpose(2, 1, 0)
    points[:3][:, ~np.isfinite(points[:3]).all(0)] = np.nan
    file["data"]["points"] = points
    lost = ~recording.seen.T
    residuals = np.zeros((len(labels), recording.frames)) if recording.residuals is None else recording.residuals.T
    file["data"]["meta_points"]["residuals"] = np.where(lost, -1.0, np.nan_to_num(residuals))[None]
    file["header"]["points"]["first_frame"] = recording.first
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder) / "made.c3d"
        file.write(str(made))
        return [Output(path, [made.read_bytes()])]
