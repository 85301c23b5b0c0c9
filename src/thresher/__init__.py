"""Thresher: find out which part of a misbehaving PC is at fault, and prove the repair."""

__version__ = "0.1.0"
