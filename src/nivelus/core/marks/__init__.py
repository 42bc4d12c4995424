"""What is found in a recording: phrases, breaths, esses, knocks, gaps, onsets, and whether it is a bed."""

__all__ = ["bed", "cells", "details", "features", "kernel", "mark", "nuclei", "onsets", "phrases"]
