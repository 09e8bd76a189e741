"""Run the benchmarks and print one table; ``fuzz`` and ``soak`` run for as long as one likes, ``bodies``, ``markers`` and ``outside`` on as many."""

import sys

from rich.console import Console
from rich.table import Table

console = Console(width=140, markup=False)


def table(words):
    """All benchmarks, or those whose names hold one of the words."""
    from . import batch, bodies, controls, core, files, filters, markers, projects, thinning, tying, window

    result = Table(box=None, pad_edge=False)
    for title in ("what", "took", "floor", "ratio", "goal", "note"):
        result.add_column(title, justify="right" if title in ("took", "floor", "ratio", "goal") else "left")
    for module in (core, filters, thinning, controls, files, batch, projects, tying, bodies, markers, window):
        for function in module.BENCHMARKS:
            name = function.__name__.replace("_", " ")
            if not words or any(word in name for word in words):
                for row in function():
                    result.add_row(*row)
    console.print(result)
    return 0


if sys.argv[1:2] == ["fuzz"]:
    from .fuzz import main

    sys.exit(main(sys.argv[2:], console))
if sys.argv[1:2] == ["bodies"]:
    from .bodies import main

    sys.exit(main(sys.argv[2:], console))
if sys.argv[1:2] == ["markers"]:
    from .markers import main

    sys.exit(main(sys.argv[2:], console))
if sys.argv[1:2] == ["outside"]:
    from .outside import main

    sys.exit(main(sys.argv[2:]))
if sys.argv[1:2] == ["soak"]:
    from .soak import main

    sys.exit(main(sys.argv[2:], console))
sys.exit(table(sys.argv[1:]))
