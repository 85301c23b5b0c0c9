"""Frozen values and errors that every other package shares.

What a part, a channel, a run sheet, a finding and a verdict are, and the port through which a machine is
read. Nothing here opens a file, reads a clock or starts a process; that is left to the packages above.
"""
