"""Which parts the machine has, in which places: read from firmware tables, sysfs and proc.

Limits and measured quantities are left to `thresher.sensors`.
"""
