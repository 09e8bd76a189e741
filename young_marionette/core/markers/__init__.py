"""Marker recordings: from labelled points in space to motion on a skeleton of the performer's own size."""
