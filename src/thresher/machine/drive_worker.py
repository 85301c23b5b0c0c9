"""Asks one drive on behalf of another process: `python -m thresher.machine.drive_worker /dev/sda`.

Each line of standard input is a command by its family and name; each line of standard output the answer as JSON. A
command that hangs in the kernel hangs this process alone.
"""

import base64
import re
import sys

import msgspec

from thresher.machine.drive_ioctl import KernelPort
from thresher.model.drive_commands import AtaCommand, NoAnswer, NvmeCommand, OpticalCommand, Refused, ScsiCommand
from thresher.model.errors import SourceUnavailable


class Reply(msgspec.Struct, frozen=True, omit_defaults=True):
    """An answer: data in base64 and the LBA registers, or why there is none, and whether the drive was silent."""

    data: str = ""
    lba: int | None = None
    trouble: str = ""
    silent: bool = False
    sense: tuple[int, int, int] | None = None


def answer(port: KernelPort, line: str) -> Reply:
    """Carry out one line."""
    family, _, name = line.strip().partition(" ")
    try:
        if family == "ata" and name in AtaCommand.__members__:
            found = port.ata(AtaCommand[name])
            return Reply(base64.b64encode(found.data).decode(), found.lba)
        if family == "nvme" and name in NvmeCommand.__members__:
            return Reply(base64.b64encode(port.nvme(NvmeCommand[name])).decode())
        if family == "scsi" and name in ScsiCommand.__members__:
            return Reply(base64.b64encode(port.scsi(ScsiCommand[name])).decode())
        if family == "optical" and name in OpticalCommand.__members__:
            return Reply(base64.b64encode(port.optical(OpticalCommand[name])).decode())
        if family == "disc" and (asked := re.fullmatch(r"(\d{1,10}) (\d{1,2})", name)) is not None:
            return Reply(base64.b64encode(port.read_disc(int(asked[1]), int(asked[2]))).decode())
    except Refused as error:
        return Reply(trouble=error.words, sense=(error.key, error.code, error.qualifier))
    except ValueError as error:
        return Reply(trouble=str(error))
    except NoAnswer as error:
        return Reply(trouble=error.reason, silent=True)
    except SourceUnavailable as error:
        return Reply(trouble=error.reason)
    return Reply(trouble=f"there is no command {line.strip()!r}")


def main(path: str) -> int:
    """Answer until the input ends."""
    try:
        port = KernelPort(path)
    except SourceUnavailable as error:
        sys.stdout.write(msgspec.json.encode(Reply(trouble=error.reason)).decode() + "\n")
        return 2
    sys.stdout.write(msgspec.json.encode(Reply()).decode() + "\n")
    sys.stdout.flush()
    for line in sys.stdin:
        sys.stdout.write(msgspec.json.encode(answer(port, line)).decode() + "\n")
        sys.stdout.flush()
    port.close()
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
