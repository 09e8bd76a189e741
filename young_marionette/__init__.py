"""Young Marionette: bring motion from any skeleton onto your own rigs."""

__version__ = "0.1.0"
