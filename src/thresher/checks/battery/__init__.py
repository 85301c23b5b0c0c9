"""Checks of batteries and adapters."""
