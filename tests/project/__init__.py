"""Tests of young_marionette.project."""
