"""A voice against its bed, and into the compressor."""
