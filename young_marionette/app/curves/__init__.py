"""The curve view: curves of chosen bones over the timeline."""
