"""What colours mean: a puppet workshop at night. The window and all pictures take theirs from here."""

NIGHT = {
    "deep": "#0f151e",
    "base": "#141b26",
    "raised": "#1d2735",
    "lifted": "#273446",
    "line": "#33425a",
    "text": "#f2ead9",
    "quiet": "#a9b0b8",
    "brass": "#e8c566",
    "performer": "#2f9fc4",
    "marionette": "#de5f38",
    "baked": "#e9e2ff",
    "alarm": "#f08a7a",
    "left": "#9a6cf0",
    "right": "#cc7a83",
    "x": "#f29b18",
    "y": "#85f2c7",
    "z": "#8d61f2",
}

# Of what stands on the stage, by its kind (see core.scene.figure and core.scene.dots).
OF_KIND = {"performer": "performer", "marionette": "marionette", "baked": "baked", "dots": "text", "odd dots": "alarm"}
