"""Thinning: few poses, with curves between them, in place of a key on every frame; within a promised tolerance."""
