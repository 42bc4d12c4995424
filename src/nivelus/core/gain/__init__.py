"""Gain as it is drawn, and as it is compiled to be heard."""

__all__ = ["clip_curves", "clips", "compile", "compiled", "dips", "drawn", "edits", "lane_edits", "point_edits", "together"]
