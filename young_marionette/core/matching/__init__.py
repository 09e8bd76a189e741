"""Matching a source skeleton and a target rig: families, names, strings from bone to bone, and the stance of both."""
