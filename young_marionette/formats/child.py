"""Processes of our own: this program's code in a new interpreter, with open files passed on."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

# Isolated: what lies in the folder that one stands in is never imported, whatever it is called.
_START = """
import sys
sys.path[:0] = sys.argv[{first}:]
from {module} import main
main(*map(int, sys.argv[1:{first}]))
"""


def start(module: str, files: Sequence[int], settings: Mapping[str, str] | None = None) -> subprocess.Popen:
    """Start ``module.main`` with the numbers of open ``files`` that it is given; ``settings``: of its environment."""
    code = _START.format(first=1 + len(files), module=module)
    return subprocess.Popen(
        [sys.executable, "-I", "-c", code, *map(str, files), *_import_paths()],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        pass_fds=[file for file in files if file >= 0],
        env={**os.environ, **(settings or {})},
    )


def _import_paths() -> list[str]:
    """Where the process finds us and our packages: where this one does, but for the present folder."""
    root, folder = str(Path(__file__).resolve().parents[2]), os.getcwd()
    return [root, *(p for p in sys.path if os.path.isabs(p) and os.path.realpath(p) not in (folder, root))]
