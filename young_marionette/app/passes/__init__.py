"""Passes over the baked clip, as they stand in the desk of Refine."""
