"""Checks of supply and board."""
