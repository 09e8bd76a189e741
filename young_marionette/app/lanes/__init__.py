"""Lanes over the timeline: contacts that can be edited, and how far the result is off."""
