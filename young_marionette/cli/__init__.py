"""The command line: a thin shell over core, formats, project and demo."""
