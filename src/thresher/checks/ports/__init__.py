"""Checks of ports and links."""
