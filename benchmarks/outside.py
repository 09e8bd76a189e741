"""``./run bench outside [N]``: the outside judge with N new examples of each law (60 without a number), other ones each time."""

import os

from tests.run import main as run


def main(words):
    """Run the judge; what fails is shrunk and printed with what reproduces it. Returns the exit code."""
    os.environ["OUTSIDE_EXAMPLES"] = str(int(words[0]) if words else 60)
    return run(["outside"])
