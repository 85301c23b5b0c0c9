"""A simulated optical drive: answers by MMC-6, and nothing else."""

from thresher.model.drive_commands import AtaAnswer, AtaCommand, DrivePort, NvmeCommand, OpticalCommand, ScsiCommand
from thresher.model.errors import SourceUnavailable
from thresher.simulator.fittings import Fittings

_PATH = "/dev/sr0"
_BYTES_S = 9.4e6


class SimulatedOptical(DrivePort):
    """The drive of a machine's fittings."""

    def __init__(self, fittings: Fittings) -> None:
        """Belong to a machine."""
        self._fittings = fittings
        self._seconds = 0.0

    def ata(self, command: AtaCommand) -> AtaAnswer:
        """It is no ATA disk."""
        raise SourceUnavailable(_PATH, f"{command.name.lower()}: it takes no such commands")

    def nvme(self, command: NvmeCommand) -> bytes:
        """It is no NVMe drive."""
        raise SourceUnavailable(_PATH, f"{command.name.lower()}: it takes no such commands")

    def scsi(self, command: ScsiCommand) -> bytes:
        """It keeps no logs."""
        raise SourceUnavailable(_PATH, f"{command.name.lower()}: the drive refuses it")

    def optical(self, command: OpticalCommand) -> bytes:
        """Answer a command."""
        return self._fittings.optical(command)

    def read_disc(self, block: int, count: int) -> bytes:
        """Read blocks of the disc; it takes its time by its own clock."""
        data = self._fittings.read_disc(block, count)
        self._seconds += len(data) / _BYTES_S
        return data

    def clock(self) -> float:
        """Return how long it has read."""
        return self._seconds

    def close(self) -> None:
        """Nothing is held open."""
