"""Sessions, their tracks and recordings, and the long work that is done for them."""
