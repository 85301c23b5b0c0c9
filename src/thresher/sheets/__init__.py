"""The run sheets that come with the program."""

from pathlib import Path

SHIPPED_SHEETS = Path(__file__).parent
