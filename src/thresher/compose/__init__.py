"""Composing a run: run sheets as files, as drafts that are edited and undone, and as ready-made shapes.

Plain data and functions, without a window and without an engine: the window paints what is worked out here, the engine
checks it and carries it out.
"""
