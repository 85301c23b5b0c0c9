"""Checks of the network."""
