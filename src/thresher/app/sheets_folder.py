"""Where the run sheets are that ship with the program."""

from pathlib import Path

SHIPPED_SHEETS = Path(__file__).parents[1] / "sheets"
