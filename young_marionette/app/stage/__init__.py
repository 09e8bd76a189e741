"""The stage: both figures in three dimensions, drawn off screen and painted as a picture."""
