"""Run the benchmarks and print one table."""

import sys

from rich.console import Console
from rich.table import Table

from . import core, files, tying, window

console = Console(width=140)
table = Table(box=None, pad_edge=False)
for title in ("what", "took", "floor", "ratio", "goal", "note"):
    table.add_column(title, justify="right" if title in ("took", "floor", "ratio", "goal") else "left")
for module in (core, files, tying, window):
    for function in module.BENCHMARKS:
        name = function.__name__.replace("_", " ")
        if len(sys.argv) < 2 or any(word in name for word in sys.argv[1:]):
            for row in function():
                table.add_row(*row)
console.print(table)
