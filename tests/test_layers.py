"""The layers: imports point downward only, Qt lives in app alone, and all below works without Qt installed."""

import ast
import subprocess
import sys
import unittest
from pathlib import Path

PACKAGE = Path(__file__).resolve().parent.parent / "young_marionette"
MAY_IMPORT = {
    "core": set(),
    "formats": {"core"},
    "project": {"core", "formats"},
    "demo": {"core", "formats", "project"},
    "cli": {"core", "formats", "project", "demo"},
    "app": {"core", "formats", "project", "demo"},
}
WINDOW_ONLY = {"PySide6", "shiboken6", "moderngl", "pyqtgraph"}


def imports(path):
    """All modules that a file imports, relative ones resolved."""
    parts = path.relative_to(PACKAGE.parent).with_suffix("").parts
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = ".".join(parts[: -node.level]) if node.level else ""
            yield ".".join(filter(None, (base, node.module)))
            yield from (".".join(filter(None, (base, node.module, alias.name))) for alias in node.names)


def is_stub(function):
    """Whether a function does nothing, or only says that it is not made yet."""
    body = [n for n in function.body if not (isinstance(n, ast.Expr) and isinstance(n.value, ast.Constant))]
    if all(isinstance(n, ast.Pass) for n in body):
        return True
    return isinstance(body[0], ast.Raise | ast.Return) and "NotImplemented" in ast.dump(body[0])


class Layers(unittest.TestCase):
    def test_imports_point_downward(self):
        seen = 0
        for layer, below in MAY_IMPORT.items():
            for path in (PACKAGE / layer).rglob("*.py"):
                for name in imports(path):
                    words = name.split(".")
                    if words[0] == "young_marionette" and len(words) > 1 and words[1] in MAY_IMPORT:
                        seen += 1
                        self.assertIn(words[1], below | {layer}, f"{path} imports {name}")
        self.assertGreater(seen, 100)

    def test_qt_is_in_app_alone(self):
        for path in PACKAGE.rglob("*.py"):
            if path.relative_to(PACKAGE).parts[0] != "app":
                self.assertFalse({n.split(".")[0] for n in imports(path)} & WINDOW_ONLY, path)

    def test_works_without_qt_installed(self):
        """With every window package barred, a take goes onto a rig from file to file."""
        code = f"""
import sys
class Bar:
    def find_spec(self, name, path=None, target=None):
        if name.split('.')[0] in {WINDOW_ONLY!r}:
            raise ImportError(name)
sys.meta_path.insert(0, Bar())
import tempfile, pathlib
from young_marionette.demo.show import write_show
from young_marionette.cli.main import main
with tempfile.TemporaryDirectory() as d:
    write_show(d)
    sys.exit(main(['retarget', d + '/quay/light_lamp.bvh', d + '/puppets/Heron.bvh', '--out', d + '/x.bvh', '--json']))
"""
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=PACKAGE.parent)
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_no_module_is_a_stub(self):
        for path in PACKAGE.rglob("*.py"):
            tree = ast.parse(path.read_text())
            self.assertTrue(ast.get_docstring(tree), f"{path} has no docstring")
            for node in ast.walk(tree):
                # What subclasses may fill is there in one place only.
                if isinstance(node, ast.FunctionDef) and path.name != "base.py":
                    self.assertFalse(is_stub(node), f"{path}: {node.name}")

    def test_a_stub_would_be_found(self):
        for body, stub in (
            ("pass", True),
            ("...", True),
            ("'Words.'", True),
            ("raise NotImplementedError", True),
            ("'Words.'; raise NotImplementedError('x')", True),
            ("return NotImplemented", True),
            ("return None", False),
            ("raise ValueError", False),
            ("x()", False),
        ):
            self.assertEqual(is_stub(ast.parse(f"def f(): {body}").body[0]), stub, body)
