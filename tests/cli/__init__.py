"""Tests of young_marionette.cli."""
