"""The process that drives one fan: takes duties from its input, and puts everything back when the input ends.

Usage: python -m thresher.machine.fan_worker FOLDER NUMBER. It answers each line with "done" or a reason.
"""

import os
import signal
import sys
from pathlib import Path

from thresher.model.regular_file import is_there

_BY_HAND = "1"
"""`pwm_enable` 1 is control by software (kernel document hwmon/sysfs-interface)."""


def main(folder: str, number: str) -> int:
    """Drive the fan until the input ends."""
    for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)  # it ends by its input, with the fan put back
    duty, mode = Path(folder, f"pwm{number}"), Path(folder, f"pwm{number}_enable")
    try:
        before_duty = duty.read_text().strip()
        before_mode = mode.read_text().strip() if is_there(mode) else None
        if before_mode is not None and before_mode != _BY_HAND:
            mode.write_text(f"{_BY_HAND}\n")
    except OSError as error:
        print(os.strerror(error.errno or 0), flush=True)
        return 1
    print("done", flush=True)
    try:
        for line in sys.stdin:
            try:
                duty.write_text(f"{int(line)}\n")
            except OSError as error:
                print(os.strerror(error.errno or 0), flush=True)
            else:
                print("done", flush=True)
    finally:
        duty.write_text(f"{before_duty}\n")
        if before_mode is not None and before_mode != _BY_HAND:
            mode.write_text(f"{before_mode}\n")
            if mode.read_text().strip() != before_mode:
                duty.write_text("255\n")  # a board that does not take its own control back gets full speed
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], sys.argv[2]))
