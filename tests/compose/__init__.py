"""Composing runs: sheets as text, drafts, geometry, ready-made shapes, checks."""
