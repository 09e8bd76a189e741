"""The examples in docstrings give what they say."""

import doctest
import importlib
import pkgutil
import unittest
from pathlib import Path

import young_marionette
from tests.support import Case


class Examples(Case):
    def test_all(self):
        tried = 0
        for module in pkgutil.walk_packages(young_marionette.__path__, "young_marionette."):
            source = Path(module.module_finder.path, *module.name.split(".")[-1:])
            source = source / "__init__.py" if module.ispkg else source.with_suffix(".py")
            # Looking through modules without any takes long.
            wanted = module.name.split(".")[1] in ("core", "formats", "project", "wording", "api")
            if wanted and ">>>" in source.read_text(encoding="utf-8"):
                result = doctest.testmod(importlib.import_module(module.name))
                self.assertEqual(result.failed, 0, module.name)
                tried += result.attempted
        self.assertGreater(tried, 9)


if __name__ == "__main__":
    unittest.main()
