"""The state of a track: one chain from what was found and done to what is heard."""

__all__ = ["beds", "clips", "following", "marks", "order", "placing", "proposals", "state"]
