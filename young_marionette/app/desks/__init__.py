"""The desk: the tools of the current step, and nothing else."""
