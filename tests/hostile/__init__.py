"""Damaged and crafted inputs, other users, and bad neighbours: refused in words, and nothing is lost."""
