"""Make the manual page docs/young-marionette.1 anew from the command line's own words: ``.venv/bin/python docs/make_manual.py``."""

import os
import sys
from pathlib import Path

from argparse_manpage.manpage import Manpage

sys.path.insert(0, str(Path(__file__).parent.parent))

from young_marionette.cli.arguments import made_parser

PAGE = Path(__file__).parent / "young-marionette.1"


def manual():
    """The page as text; no date, so that it changes with the commands alone."""
    os.environ["COLUMNS"] = "100"  # whatever the terminal is
    parser = made_parser()
    page = Manpage(parser, format="single-commands-section")
    page.manual, page.source, page.date = "Young Marionette", "Young Marionette", ""
    return str(page)


if __name__ == "__main__":
    PAGE.write_text(manual())
