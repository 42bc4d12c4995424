"""What an edit does for everybody: it is a step of the history, and is answered with what it changed."""
