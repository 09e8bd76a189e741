"""Speed as ratios against a floor measured in the same run. ``./run bench [WORD ...]`` runs those whose name holds a word."""
