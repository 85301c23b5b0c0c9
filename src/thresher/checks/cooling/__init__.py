"""Checks of fans and cooling."""
