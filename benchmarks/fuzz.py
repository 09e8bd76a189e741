"""``./run bench fuzz [SECONDS [SEED]]``: hostile files of every kind, for as long as one likes."""

import tempfile
import time
from pathlib import Path

from tests import fuzzing


def main(words, console):
    """Run the fuzzers; the exit code is 1 where any file ended in something else than a result or a sentence."""
    seconds = float(words[0]) if words else 60.0
    seed = int(words[1]) if len(words) > 1 else int(time.time()) % 10**7 * 1000
    with tempfile.TemporaryDirectory() as folder:
        checked, let_in, wrong = fuzzing.run(Path(folder), seed, seconds)
    console.print(
        f"{checked} files from seed {seed} on: {let_in} were let in, {checked - let_in - len(wrong)} refused in a sentence"
    )
    for kind, number, what in wrong:
        console.print(f"wrong: {kind}, seed {number}: {what}"[:600])
    return 1 if wrong else 0
