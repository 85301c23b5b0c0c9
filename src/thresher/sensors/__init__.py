"""Channels found by reading the machine, sampled steadily, with their limits, extremes and history.

What a reading means for the machine's parts is left to the engine's watchers and to the diagnosis.
"""
