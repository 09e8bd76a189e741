"""Carrying the motion of a source over strings and stance onto a target rig."""
