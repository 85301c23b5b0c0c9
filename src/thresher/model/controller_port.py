"""The port to a machine's management controller: what it may be asked is a closed list of readings (IPMI 2.0)."""

from dataclasses import dataclass
from enum import Enum
from typing import Protocol


class ControllerCommand(Enum):
    """Network function and command (IPMI 2.0, appendix G)."""

    DEVICE_ID = (0x06, 0x01)
    RESERVE_RECORDS = (0x0A, 0x22)
    GET_RECORD = (0x0A, 0x23)
    SENSOR_READING = (0x04, 0x2D)


@dataclass(frozen=True, slots=True)
class ControllerAnswer:
    """The completion code, 0 for done (IPMI 2.0, table 5-2), and what came behind it."""

    code: int
    data: bytes


class ControllerPort(Protocol):
    """A management controller. Every call may take seconds: never on the engine's or the window's thread."""

    def ask(self, command: ControllerCommand, data: bytes = b"") -> ControllerAnswer:
        """Ask it. Raises SourceUnavailable when it does not answer."""
        ...

    def close(self) -> None:
        """Let go of it."""
        ...
