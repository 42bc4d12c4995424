"""The demo: made-up scenes from the invented coastal town of Pellowmere, with real work left to do."""
