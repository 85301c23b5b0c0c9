"""The port to a machine's network: what its adapters have, and what answers on the wire.

Everything here may block and is asked for beside the engine's own thread.
"""

from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True, slots=True)
class Address:
    """An address of an interface with the length of its network prefix."""

    interface: str
    address: str
    prefix: int


@dataclass(frozen=True, slots=True)
class Gateway:
    """Where packets to everywhere else go, and by which interface."""

    interface: str
    address: str


@dataclass(frozen=True, slots=True)
class Neighbour:
    """Another wireless network in reach: its name, channel centre in MHz and signal in dBm."""

    name: str
    mhz: int
    dbm: float


@dataclass(frozen=True, slots=True)
class WirelessState:
    """What a wireless interface is connected to: name, MHz, signal in dBm, rate in Mbit/s, and who else is in reach."""

    interface: str
    network: str
    mhz: int | None
    dbm: float | None
    rate_mbit: float | None
    neighbours: tuple[Neighbour, ...] = ()


@dataclass(frozen=True, slots=True)
class LookedUp:
    """What a name server answered: addresses, or the code of its refusal (RFC 1035, 4.1.1), and how long it took."""

    addresses: tuple[str, ...]
    code: str
    ms: float


@dataclass(frozen=True, slots=True)
class Fetched:
    """What came back over HTTP: the status, where it points to, and the beginning of the text."""

    status: int
    location: str
    text: str


@dataclass(frozen=True, slots=True)
class BluetoothState:
    """A Bluetooth adapter: its address, whether it is up, and errors on its way to the machine, both ways together."""

    address: str
    up: bool
    errors: int


class NetworkPort(Protocol):
    """A machine's network."""

    def addresses(self) -> tuple[Address, ...]:
        """Return all addresses but those of the loopback. Raises SourceUnavailable."""
        ...

    def gateways(self) -> tuple[Gateway, ...]:
        """Return the default routes, the preferred one first. Raises SourceUnavailable."""
        ...

    def ping(self, address: str, seconds: float, size: int = 56) -> float | None:
        """Send one echo request of so many bytes (RFC 792, RFC 4443) and return the round trip in ms.

        None when nothing came back in time. Raises SourceUnavailable when it may not be sent.
        """
        ...

    def look_up(self, server: str, name: str, seconds: float) -> LookedUp | None:
        """Ask a name server for the addresses of a name; None when it does not answer in time."""
        ...

    def fetch(self, url: str, seconds: float) -> Fetched | None:
        """Fetch a page without following it elsewhere; None when nothing answers in time."""
        ...

    def wireless(self, interface: str) -> WirelessState | None:
        """Return what a wireless interface is connected to, None where that is not reported."""
        ...

    def bluetooth(self, adapter: str) -> BluetoothState | None:
        """Return the state of a Bluetooth adapter (hci0), None when it does not answer. Raises SourceUnavailable."""
        ...
