"""Which cards OpenGL offers, asked by a process of its own: `python -m thresher.graphics.listing`.

To ask loads the driver of every card, and one that has fallen off its link may hang there.
"""

import subprocess
import sys

import msgspec

from thresher.graphics.egl import CardDevice, card_devices
from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import own_command

_WAIT_S = 20.0


class Listing(msgspec.Struct, frozen=True, omit_defaults=True):
    """The devices, or why there are none."""

    devices: tuple[CardDevice, ...] = ()
    trouble: str = ""


def listed_devices(seconds: float = _WAIT_S) -> tuple[CardDevice, ...]:
    """Return what OpenGL offers. Raises SourceUnavailable, also where a driver does not answer in so many seconds."""
    command = own_command("thresher.graphics.listing")
    try:
        done = subprocess.run(command, capture_output=True, timeout=seconds, stdin=subprocess.DEVNULL, check=False)
        found = msgspec.json.decode(done.stdout, type=Listing)
    except subprocess.TimeoutExpired as error:
        raise SourceUnavailable("OpenGL", f"a graphics driver did not answer in {seconds:.0f} s") from error
    except msgspec.DecodeError as error:
        raise SourceUnavailable("OpenGL", "a graphics driver ended the program that asked it") from error
    if found.trouble:
        raise SourceUnavailable("OpenGL", found.trouble)
    return found.devices


def main() -> int:
    """Print the devices as JSON."""
    try:
        found = Listing(card_devices())
    except SourceUnavailable as error:
        found = Listing(trouble=error.reason)
    sys.stdout.write(msgspec.json.encode(found).decode())
    return 0


if __name__ == "__main__":
    sys.exit(main())
