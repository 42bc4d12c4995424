"""What a compressor behind the pre-fader gain would have to do."""

__all__ = ["compressor", "detector", "limiter", "load"]
