"""Tests of what the shop keeps over jobs: search, history, backups, personal data."""
