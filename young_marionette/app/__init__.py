"""The window: Qt widgets that show the document and hand edits to it. The only place that knows Qt."""
