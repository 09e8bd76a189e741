"""Quillmouth: the demo show, made by code with a fixed seed. The lamplighters of a small harbour town."""
