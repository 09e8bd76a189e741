"""The examples in docstrings give what they say."""

import doctest
import importlib
import pkgutil
import unittest

import young_marionette
from tests.support import Case


class Examples(Case):
    def test_all(self):
        tried = 0
        for module in pkgutil.walk_packages(young_marionette.__path__, "young_marionette."):
            if module.name.split(".")[1] in ("core", "formats", "project", "wording", "api"):
                result = doctest.testmod(importlib.import_module(module.name))
                self.assertEqual(result.failed, 0, module.name)
                tried += result.attempted
        self.assertGreater(tried, 9)


if __name__ == "__main__":
    unittest.main()
