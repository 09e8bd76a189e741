"""Recordings of markers in the project: entries of their own, the figures and labellings that are kept, and the takes they become."""
