"""Print the Debian packages of what is missing here, one a line: ``python3 -I missing_packages.py [window] [test]``.

Asks whether libraries load and commands are there, and never for the names of packages. Runs on a bare Python.
"""

import ctypes
import glob
import importlib.util
import os
import shutil
import sys
from pathlib import Path


def loads(library):
    """Whether the system's loader finds a library and all that it needs."""
    try:
        ctypes.CDLL(library)
    except OSError:
        return False
    return True


def there(pattern):
    """Whether any file has a name of that pattern; a fonts folder of the user's own counts too."""
    places = [pattern, pattern.replace("/usr/share/fonts", os.path.expanduser("~/.local/share/fonts"))]
    return any(next(glob.iglob(place, recursive=True), None) for place in places)


LOOK = {"library": loads, "files": there, "command": shutil.which}


def missing(kinds, table):
    """Names of the packages that ``table`` has for what is missing, each once."""
    found = [] if importlib.util.find_spec("ensurepip") else ["python3-venv"]
    for line in table.splitlines():
        words = line.partition("#")[0].split()
        if len(words) == 4 and words[0] in kinds and not LOOK[words[1]](words[2]):
            found.append(words[3])
    return list(dict.fromkeys(found))


if __name__ == "__main__":
    rows = (Path(__file__).resolve().parent / "system-packages.txt").read_text()
    print("\n".join(missing(sys.argv[1:], rows)))
