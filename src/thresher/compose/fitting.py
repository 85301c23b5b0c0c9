"""Fitting a ready-made sheet to a machine: rows for drives and cards that it does not have are left out."""

from collections.abc import Collection
from dataclasses import replace

from thresher.model.parts import PartKind
from thresher.model.sheet import RunSheet

DEVICE_ROWS = (PartKind.DRIVE, PartKind.GRAPHICS)
"""Rows of what a machine may have or not; every machine has a processor and memory."""


def missing_rows(sheet: RunSheet, kinds: Collection[PartKind]) -> tuple[PartKind, ...]:
    """Return the rows of a sheet for which a machine with parts of these kinds has nothing."""
    return tuple(row for row in DEVICE_ROWS if row not in kinds and any(block.row is row for block in sheet.blocks))


def fitted(sheet: RunSheet, kinds: Collection[PartKind]) -> RunSheet:
    """Return the sheet without the rows that a machine has nothing for; as it is where nothing would be left."""
    missing = missing_rows(sheet, kinds)
    left = tuple(block for block in sheet.blocks if block.row not in missing)
    return replace(sheet, blocks=left) if left else sheet
