"""The use cases: each loads what it needs from the store, calls the core, and writes back in one unit of work."""
