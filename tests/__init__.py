"""Tests; they mirror the packages. Run them all with ``./run test``, or some with ``./run test core app.test_window``."""
