"""Processor vendors, as far as their register layouts differ."""

from enum import StrEnum


class Vendor(StrEnum):
    """Whose register layout applies; the kernel prints its own number for the vendor (0, 2, 9)."""

    INTEL = "Intel"
    AMD = "AMD"
    UNKNOWN = "unknown"
