"""Marker recordings in files: what readers of them share, and tables of text."""
