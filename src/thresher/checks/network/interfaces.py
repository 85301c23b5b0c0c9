"""What the kernel reports of network interfaces (kernel document ABI/testing/sysfs-class-net)."""

from dataclasses import dataclass

from thresher.model.parts import Inventory, PartKind
from thresher.model.port import System, optional_number, optional_text

_NET = "/sys/class/net"
COUNTED = ("rx_errors", "tx_errors", "rx_crc_errors", "rx_dropped", "tx_dropped", "collisions")


@dataclass(frozen=True, slots=True)
class Interface:
    """An interface with hardware behind it: speed in Mbit/s, None where there is no link."""

    name: str
    wireless: bool
    carrier: bool
    up: bool
    speed_mbit: int | None
    duplex: str


def interfaces(system: System) -> list[Interface]:
    """Return the interfaces that have hardware behind them."""
    found = []
    for name in system.list(_NET):
        here, names = f"{_NET}/{name}", system.list(f"{_NET}/{name}")
        if "device" not in names:
            continue
        speed = optional_number(system, f"{here}/speed")
        found.append(
            Interface(
                name,
                "wireless" in names or "phy80211" in names,
                optional_number(system, f"{here}/carrier") == 1,
                optional_text(system, f"{here}/operstate") not in ("down", "notpresent"),
                speed if speed is not None and speed > 0 else None,
                optional_text(system, f"{here}/duplex"),
            )
        )
    return found


def counts(system: System, name: str) -> dict[str, int]:
    """Return the error counters of an interface, and its packets received."""
    folder = f"{_NET}/{name}/statistics"
    read = {each: optional_number(system, f"{folder}/{each}") for each in (*COUNTED, "rx_packets", "tx_packets")}
    return {each: value for each, value in read.items() if value is not None}


def has_network(inventory: Inventory) -> bool:
    """Whether there is a network adapter."""
    return bool(inventory.parts_of(PartKind.NETWORK))
