"""A track as it is: its timeline, its state, what is heard of it, and what it is judged by."""
