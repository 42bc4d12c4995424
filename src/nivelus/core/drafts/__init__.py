"""Proposals: clip gain, dips, rides, ducking, and what brings levels back where a ride has moved them."""

__all__ = ["clip_gain", "dip_rules", "dips", "duck", "peaks", "ride", "settle", "slow", "strays", "wants"]
