"""Motion as keys: typed channels, samplers and keyed clips, of which dense clips are made only when frames are needed."""
