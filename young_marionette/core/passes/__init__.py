"""Passes: adjustable changes over a baked clip, one after the other."""
