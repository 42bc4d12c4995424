"""Levels: the grid of frames, loudness, peaks, the waveform, and all of these composed along a timeline."""

__all__ = ["along", "compose", "distance", "evenness", "filters", "grid", "inside", "kernel", "loudness", "spans", "waveform"]
