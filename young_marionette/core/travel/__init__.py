"""Travel: where a figure goes, and which bone carries it there."""
