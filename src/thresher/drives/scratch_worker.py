"""Carries a verified load out for another process: `python -m thresher.drives.scratch_worker`.

The first line of standard input is the order. "stop", or the end of the input, ends it. Each line of standard output is
a report. However it ends, the scratch file is removed; a request that hangs in the kernel hangs this process alone.
"""

import sys
import threading

import msgspec

from thresher.drives.scratch import Scratch, ScratchPlan, ScratchProgress
from thresher.machine.scratch_file import KernelScratchFile
from thresher.model.errors import SourceUnavailable

_REPORT_S = 0.5
_JOIN_S = 20.0


class ScratchOrder(msgspec.Struct, frozen=True):
    """Which file is made, and how it is used."""

    path: str
    plan: ScratchPlan


class ScratchReport(msgspec.Struct, frozen=True, omit_defaults=True):
    """How far it is; the first one says whether the page cache is passed by. `trouble` says why it could not begin."""

    progress: ScratchProgress | None = None
    direct: bool = True
    ended: bool = False
    trouble: str = ""


def _say(report: ScratchReport) -> None:
    sys.stdout.write(msgspec.json.encode(report).decode() + "\n")
    sys.stdout.flush()


def main() -> int:
    """Work until told to stop."""
    order = msgspec.json.decode(sys.stdin.readline(), type=ScratchOrder)
    try:
        file = KernelScratchFile(order.path, order.plan.size)
    except SourceUnavailable as error:
        _say(ScratchReport(trouble=error.reason, ended=True))
        return 2
    try:
        _say(ScratchReport(direct=file.direct))
        scratch = Scratch(order.plan, file)
        told = threading.Event()

        def listen() -> None:
            sys.stdin.readline()
            scratch.stop()
            told.set()

        threading.Thread(target=listen, daemon=True).start()
        work = threading.Thread(target=scratch.run, daemon=True)
        work.start()
        while work.is_alive() and not told.is_set():
            work.join(_REPORT_S)
            _say(ScratchReport(scratch.progress()))
        work.join(_JOIN_S)
        _say(ScratchReport(scratch.progress(), ended=True))
    except BrokenPipeError:
        return 1  # nobody listens any more; the file goes all the same
    finally:
        file.remove()
    return 0


if __name__ == "__main__":
    sys.exit(main())
