"""Drives: what they report about themselves, read by the kernel's public interfaces and published command sets.

Only commands of `model/drive_commands.py` can leave the program, and none of them writes to the medium.
"""
