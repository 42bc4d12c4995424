"""Riding by hand: from what was heard of a moving hand to the lane that it wrote."""

__all__ = ["gesture", "snapping", "writing"]
