"""Filters for motion: spikes taken out, jitter smoothed, rotations as rotations."""
