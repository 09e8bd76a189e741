"""Tests of young_marionette.demo."""
