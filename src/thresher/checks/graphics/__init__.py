"""Checks of graphics cards and their outputs."""
