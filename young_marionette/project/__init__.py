"""The document: library, pairings and bakes, edits that can be undone, files on disk. No Qt."""
