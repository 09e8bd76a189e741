"""Controls in the window: what a clip is baked onto, and the set of a rig."""
