"""The layers: imports point downward only, Qt lives in app alone, and all below works without Qt installed."""

import ast
import subprocess
import sys
import unittest
from pathlib import Path

PACKAGE = Path(__file__).resolve().parent.parent / "young_marionette"
MAY_IMPORT = {
    "core": set(),
    "rendering": {"core"},
    "formats": {"core"},
    "wording": {"core"},
    "project": {"core", "formats", "wording", "rendering"},
    "demo": {"core", "formats", "wording", "rendering", "project"},
    "cli": {"core", "formats", "wording", "rendering", "project", "demo"},
    "app": {"core", "formats", "wording", "rendering", "project", "demo"},
}
WINDOW_ONLY = {"PySide6", "shiboken6", "moderngl", "pyqtgraph"}
DRAWS = {"app", "rendering"}  # with OpenGL, of which the rest does without


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


WORDS = {"label", "text", "evidence", "remedy"}  # what holds words for people


def compares_words(tree):
    """The lines where a sentence, or what holds words for people, is compared with a text."""
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare):
            inside = [n for part in (node.left, *node.comparators) for n in ast.walk(part)]
            texts = [n.value for n in inside if isinstance(n, ast.Constant) and isinstance(n.value, str)]
            sentence = any(" " in t and (t[0].isupper() or t[-1] in ".!?") for t in texts if t)
            read = any(isinstance(n, ast.Attribute) and n.attr in WORDS for n in inside)
            if sentence or (read and any(len(t) > 2 for t in texts)):
                found.append(node.lineno)
    return found


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
            layer = path.relative_to(PACKAGE).parts[0]
            barred = set() if layer == "app" else WINDOW_ONLY - ({"moderngl"} if layer in DRAWS else set())
            self.assertFalse({n.split(".")[0] for n in imports(path)} & barred, path)

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

    def test_no_sentence_is_compared(self):
        """Codes and values decide; words are only shown."""
        self.assertTrue(compares_words(ast.parse("x == 'The floor.'")))
        self.assertTrue(compares_words(ast.parse("fact.label in ('Unit', other)")))
        self.assertTrue(compares_words(ast.parse("'hover' in odd.text")))
        self.assertFalse(compares_words(ast.parse("key == 'END' or code in ('four legs', 'short') or name == 'a.b'")))
        for path in PACKAGE.rglob("*.py"):
            for line in compares_words(ast.parse(path.read_text())):
                self.fail(f"{path}:{line} compares words")

    def test_no_mathematics_in_the_window(self):
        """Only what fills the graphics card handles arrays; all else in ``app`` asks below for what it shows."""
        drawing = {PACKAGE / "app/stage/painter.py"}
        self.assertTrue(all(path.exists() for path in drawing))
        for path in (PACKAGE / "app").rglob("*.py"):
            if path not in drawing:
                used = set(imports(path))
                for name in ("numpy", "scipy", "young_marionette.core.rotations", "young_marionette.core.kinematics"):
                    self.assertNotIn(name, used, path)

    def test_no_module_is_a_stub(self):
        for path in PACKAGE.rglob("*.py"):
            tree = ast.parse(path.read_text())
            self.assertTrue(ast.get_docstring(tree), f"{path} has no docstring")
            classes = [n for n in ast.walk(tree) if isinstance(n, ast.ClassDef)]
            shapes = {
                f for c in classes if any(getattr(b, "id", "") == "Protocol" for b in c.bases) for f in ast.walk(c)
            }
            for node in ast.walk(tree):
                # What subclasses may fill is there in one place only.
                if isinstance(node, ast.FunctionDef) and path.name != "base.py" and node not in shapes:
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
