"""Recordings of markers in Gather: the solving in the background, facts, body picture, table and faults."""
