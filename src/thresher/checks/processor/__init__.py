"""Checks of the processor."""
