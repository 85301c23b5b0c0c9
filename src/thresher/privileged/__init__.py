"""The access helper: what only root may do, done by a small system service from a fixed list, and nothing else.

Only the standard library and jeepney are imported here, since all of it runs with rights that a mistake would give
away. Read `allowlist.py` first: it says everything that can be asked for.
"""
