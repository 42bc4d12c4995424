"""Proposals: clip gain, dips, rides, ducking, and what brings levels back where a ride has moved them."""

__all__ = ["clip_gain", "dip_rules", "dips", "duck", "from_rule", "peaks", "ride", "settle", "slow", "strays", "wants"]
