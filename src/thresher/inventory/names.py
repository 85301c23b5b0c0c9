"""What a device on a bus is called: the kernel's own words, else the hardware database's, else its numbers."""

import re
from typing import Protocol

from thresher.model.port import System, optional_text


class Lookup(Protocol):
    """Asks the hardware database (hwdb(7)); `reason` says why it knows nothing, empty when it can be asked."""

    reason: str

    def __call__(self, modalias: str) -> dict[str, str]:
        """Return the properties of a device by its modalias, empty for one that is not known."""
        ...


class NoNames:
    """The lookup where nobody asks for names."""

    reason = ""

    def __call__(self, modalias: str) -> dict[str, str]:
        """Know nothing."""
        return {}


def modalias_of(system: System, folder: str) -> str:
    """Return the modalias of a PCI device, put together from its numbers where the kernel's own is missing.

    Kernel document ABI/testing/sysfs-bus-pci; the form is that of `file2alias` for PCI.
    """
    reported = optional_text(system, f"{folder}/modalias")
    if reported:
        return reported
    numbers = [
        optional_text(system, f"{folder}/{file}")
        for file in ("vendor", "device", "subsystem_vendor", "subsystem_device", "class")
    ]
    parsed = [int(text, 16) if re.fullmatch(r"0x[0-9a-fA-F]{1,8}", text) else None for text in numbers]
    if parsed[0] is None or parsed[1] is None:
        return ""
    vendor, device, sub_vendor, sub_device, kind = (number or 0 for number in parsed)
    return (
        f"pci:v{vendor:08X}d{device:08X}sv{sub_vendor:08X}sd{sub_device:08X}"
        f"bc{kind >> 16 & 0xFF:02X}sc{kind >> 8 & 0xFF:02X}i{kind & 0xFF:02X}"
    )


def database_name(lookup: Lookup, modalias: str) -> str:
    """Return maker and model of a device by the hardware database, empty when it does not know the model."""
    found = lookup(modalias) if modalias else {}
    model = found.get("ID_MODEL_FROM_DATABASE", "")
    maker = found.get("ID_VENDOR_FROM_DATABASE", "")
    if not model:
        return ""
    return model if not maker or model.startswith(maker) else f"{maker} {model}"
