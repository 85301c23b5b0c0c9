"""Checks of keyboard and pointer, done by a person."""
