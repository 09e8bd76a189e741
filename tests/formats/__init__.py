"""Tests of young_marionette.formats."""
