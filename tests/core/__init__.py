"""Tests of young_marionette.core."""
