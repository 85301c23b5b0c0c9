"""Simulated machines with heat, power, parts and faults: the third adapter of the port to a machine.

A simulated machine answers with the same files, bytes and log lines as a real machine, on a clock that can run
fast. It shares no code with the readers that read it, since a fake and a parser from one source would
share their mistakes. What its readings mean is left to those readers.
"""
