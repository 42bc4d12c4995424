"""Clips, phrases, takes and details: what is on a track, and what is done to it by hand or by a draft."""
