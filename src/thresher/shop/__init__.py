"""What a shop keeps over its jobs: the shelf of known-good parts, each machine's own file, its own run sheets.

Plain JSON and TOML files that a person can read, described in docs/formats.md.
"""
