"""Checks of the drives."""
