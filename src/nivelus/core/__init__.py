"""The job itself: measuring, marks, gain, drafts and delivery. NumPy in, NumPy and frozen dataclasses out.

Nothing here knows of the web, the database or the interface; the only files it touches are sound files.
"""
