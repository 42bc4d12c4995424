"""Sound files, read and written, and many of them read as one."""

__all__ = ["bwf", "channels", "decoding", "pcm", "reader", "refusals", "source", "timeline", "writer"]
