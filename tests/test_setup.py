"""What is started outside of Python's own protection: the run script, its helpers, and what it asks of the system."""

import os
import subprocess
import sys
import unittest
from pathlib import Path

from tests.support import Case, show_folder

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "tools"))
TABLE = (ROOT / "tools/system-packages.txt").read_text()


class Isolation(Case):
    """A folder that holds modules called as ours and our packages are; each leaves a mark when it is run."""

    def setUp(self):
        self.trap = self.folder / "trap"
        self.trap.mkdir()
        for name in ("pxr", "argparse", "numpy", "scipy", "json", "young_marionette", "pydantic", "rich", "PySide6"):
            text = f"open({str(self.folder / name)!r}, 'w').close()\nraise SystemExit(9)\n"
            (self.trap / f"{name}.py").write_text(text)

    def sprung(self):
        return [p.name for p in self.folder.iterdir() if p != self.trap]

    def test_commands_run_nothing_of_the_folder_one_stands_in(self):
        rig = show_folder() / "puppets/bodies/Puffin.usdz"
        for words in (["info", str(rig), "--json"], ["--version"]):
            done = subprocess.run([ROOT / "run", *words], cwd=self.trap, capture_output=True, text=True)
            self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertEqual(self.sprung(), [])

    def test_nor_does_the_process_for_usd_files_whoever_started_us(self):
        """Even where Python itself was told to look in the present folder."""
        rig = show_folder() / "puppets/bodies/Puffin.usdz"
        code = (
            "import sys; sys.path.remove('')\n"
            "import young_marionette.formats.registry as formats, young_marionette.formats.usd\n"
            f"sys.path.insert(0, ''); sys.path.insert(0, {str(self.trap)!r})\n"
            f"print(formats.read({str(rig)!r}).format)"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=self.trap, capture_output=True, text=True, env={**os.environ, "PYTHONPATH": str(ROOT)}
        )  # fmt: skip
        self.assertEqual(done.stdout, "USD\n", done.stderr)
        self.assertEqual(self.sprung(), [])


class Extras(Case):
    """Packages that are not installed, as after ``pip install .`` alone."""

    def run_without(self, code, *names):
        """What a process prints in which the packages of those names can't be found."""
        bar = (
            "import sys, importlib.abc\n"
            "class Bar(importlib.abc.MetaPathFinder):\n"
            "    def find_spec(self, name, path=None, target=None):\n"
            f"        if name.partition('.')[0] in {names!r}: raise ModuleNotFoundError(name, name=name)\n"
            "import importlib.util\n"
            "real = importlib.util.find_spec\n"
            f"importlib.util.find_spec = lambda n, p=None: None if n.partition('.')[0] in {names!r} else real(n, p)\n"
            "sys.meta_path.insert(0, Bar())\n"
        )
        return subprocess.run([sys.executable, "-c", bar + code], cwd=ROOT, capture_output=True, text=True)

    def test_the_window_tells_how_to_get_its_packages(self):
        done = self.run_without("from young_marionette.launch import main; sys.exit(main([]))", "PySide6", "moderngl")
        self.assertEqual(done.returncode, 2)
        self.assertIn("PySide6, moderngl", done.stderr)
        self.assertIn("pip install 'young-marionette[window]'", done.stderr)
        self.assertNotIn("Traceback", done.stderr)

    def test_usd_tells_how_to_get_its_package(self):
        rig = show_folder() / "puppets/bodies/Puffin.usdz"
        code = "from young_marionette.cli.main import main; sys.exit(main(sys.argv[1:] or %r))"
        done = self.run_without(code % ["info", str(rig)], "pxr")
        self.assertEqual((done.returncode, len(done.stderr.splitlines())), (2, 1), done.stderr)
        self.assertIn("pip install usd-core", done.stderr)

    def test_help_and_version_load_no_numbers(self):
        code = (
            "from young_marionette.cli.main import main; main(%r)\n"
            "print('loaded:', sorted({'numpy', 'scipy', 'pydantic', 'pxr'} & set(sys.modules)))"
        )
        for words in (["--help"], ["--version"]):
            self.assertIn("loaded: []", self.run_without(code % words).stdout, words)


class SystemPackages(unittest.TestCase):
    def test_what_is_missing_is_found_by_looking_for_it(self):
        from missing_packages import missing

        table = """
        window library libc.so.6 never
        window library libnosuchthing.so.7 libnosuchthing7  # a remark
        window files /no/such/place/*.so also
        window files /proc/self/stat never
        test   command no-such-command-anywhere tool
        test   command sh never
        """
        self.assertEqual(missing(["window"], table), ["libnosuchthing7", "also"])
        self.assertEqual(missing(["window", "test"], table), ["libnosuchthing7", "also", "tool"])
        self.assertEqual(missing([], table), [])

    def test_nothing_of_the_real_table_is_missing_where_the_tests_run(self):
        from missing_packages import missing

        self.assertEqual(missing(["window"], TABLE), [])
        self.assertIn("libglib-2.0.so.0", TABLE)
