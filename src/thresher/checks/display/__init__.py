"""Checks of displays, judged by a person."""
