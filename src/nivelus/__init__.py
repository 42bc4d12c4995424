"""Nivelus: evens out the level of a recorded voice with gain that comes before the fader."""

__version__ = "0.1.0"
