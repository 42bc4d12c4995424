"""What leaves the program: rendered sound, mixes, curves as files, and whole files levelled at once."""

__all__ = ["against", "curve_formats", "follow", "level", "mix", "outputs", "render", "warm"]
