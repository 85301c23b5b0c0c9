"""Checks of the memory."""
