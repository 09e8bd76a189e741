"""Tests of young_marionette.app."""
