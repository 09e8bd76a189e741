"""The process that opens a C3D file: whatever a damaged file does to the library, it does it there.

Started by the reader with the numbers of two open files: the C3D file, and one that the answer is written to (arrays, or the
sentence that tells what is wrong).
"""

from __future__ import annotations

import json
import os
import resource

import numpy as np

_ROOM, _TIMES, _SECONDS = 700 << 20, 60, 120
_BLOCK = 512
_COMPUTED = {"ANGLES", "FORCES", "MOMENTS", "POWERS", "SCALARS", "REACTIONS", "MODELED_MARKERS"}
_MARKERS = {"LABELS", "DESCRIPTIONS", "UNITS", "TYPE_GROUPS", "MARKERS"}


def main(given: int, answer: int) -> None:
    """Read the C3D file at the descriptor ``given`` and write what it holds to ``answer``."""
    size = os.fstat(given).st_size
    room = _ROOM + _TIMES * size
    resource.setrlimit(resource.RLIMIT_AS, (room, room))
    resource.setrlimit(resource.RLIMIT_CPU, (_SECONDS, _SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        told, arrays = _read(given, size)
    except MemoryError:
        told, arrays = {"problem": "it asks for more memory than its size allows"}, {}
    except Exception as error:
        told, arrays = {"problem": str(error).split("\n")[0][:200] or type(error).__name__}, {}
    with os.fdopen(os.dup(answer), "wb") as file:
        np.savez(file, told=np.frombuffer(json.dumps(told).encode(), np.uint8), **arrays)


def _read(given: int, size: int) -> tuple[dict, dict]:
    head = os.pread(given, 512, 0)
    if len(head) < 512 or head[1] != 0x50:
        return {"problem": "its header is not that of a C3D file"}, {}
    import ezc3d

    from .swapping import MIPS, as_intel, processor

    data = os.pread(given, min(size, 128 * _BLOCK), 0)
    if processor(data) == MIPS:
        turned = os.memfd_create("turned")
        with os.fdopen(os.dup(turned), "wb") as other:
            other.write(as_intel(os.pread(given, size, 0)))
        given = turned

    file = ezc3d.c3d(f"/proc/self/fd/{given}", extract_forceplat_data=False)
    parameters, header = file["parameters"], file["header"]
    points = np.asarray(file["data"]["points"], np.float32)
    point = parameters.get("POINT", {})

    def values(group: dict, name: str) -> list:
        return list(np.ravel(group.get(name, {}).get("value", [])))

    labels: list = []
    for name in ("LABELS", "LABELS2", "LABELS3", "LABELS4"):
        labels += map(str, values(point, name))
    residuals = np.asarray(file["data"]["meta_points"]["residuals"], np.float32)
    text = {
        "labels": labels[: points.shape[1]],
        "rate": float(header["points"]["frame_rate"] or (values(point, "RATE") or [0])[0]),
        "first": int(header["points"]["first_frame"]),
        "units": [str(v) for v in values(point, "UNITS")][:1],
        "screen": [str(v) for name in ("X_SCREEN", "Y_SCREEN") for v in values(point, name)[:1]],
        "subjects": [str(v) for v in values(parameters.get("SUBJECTS", {}), "NAMES")][:8],
        "computed": _computed(point),
        "analogs": int(header["analogs"]["size"]),
        "announced": int(header["points"]["last_frame"]) - int(header["points"]["first_frame"]) + 1,
    }
    return text, {
        "points": np.ascontiguousarray(points[:3].transpose(2, 1, 0)),
        "residuals": np.ascontiguousarray(residuals[0].T),
    }


def _computed(point: dict) -> list[str]:
    """Labels of columns that the parameters of POINT list as something else than markers."""
    groups = {str(v).strip().upper() for v in np.ravel(point.get("TYPE_GROUPS", {}).get("value", []))}
    labels: list[str] = []
    for name, parameter in point.items():
        kind = name.upper().rstrip("0123456789")
        if kind in _COMPUTED or (kind in groups and kind not in _MARKERS):
            labels += [v.strip() for v in np.ravel(parameter.get("value", [])) if isinstance(v, str) and v.strip()]
    return labels
