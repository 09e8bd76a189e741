"""The figure in a file: its unit, axes, facing, rest pose and oddities, and how it is put into our world."""
