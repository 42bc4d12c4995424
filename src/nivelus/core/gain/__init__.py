"""Gain as it is drawn, and as it is compiled to be heard."""

__all__ = ["beside", "clip_curves", "clips", "compile", "compiled", "dips", "drawn", "edits", "together"]
