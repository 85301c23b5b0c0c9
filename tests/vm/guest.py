"""A guest that can be ended in every way: the programs of a folder, and what is asked of Thresher in it."""

import json
import os
import subprocess
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

_BOOT_S = 600
PLACE = "/var/lib/thresher-test"
"""The folder in the guest for jobs and small programs."""


@dataclass(frozen=True, slots=True)
class Guest:
    """The folder with the programs that start, cut and reset the guest, and run commands in it."""

    folder: Path

    def host(self, program: str, *arguments: str, wait_s: float = _BOOT_S, check: bool = True) -> str:
        """Run one of the programs on the host."""
        done = subprocess.run(
            [str(self.folder / program), *arguments],
            capture_output=True,
            text=True,
            timeout=wait_s,
            check=False,
            stdin=subprocess.DEVNULL,
            env=os.environ | {"WATCHDOG": "1"},
        )
        if check and done.returncode:
            raise SystemExit(f"{program} {' '.join(arguments)}: {done.stdout}{done.stderr}")
        return done.stdout

    def run(self, command: str, wait_s: float = 300.0, check: bool = False) -> str:
        """Run a command in the guest and return what it prints."""
        return self.host("run-in-guest.sh", command, wait_s=wait_s, check=check)

    def boot(self) -> None:
        """Start it."""
        self.host("boot.sh")

    def wait_for_boot(self, before: str) -> None:
        """Wait until it has started again by itself: until it answers with another boot id."""
        until = time.monotonic() + _BOOT_S
        while time.monotonic() < until:
            try:
                now = self.run("cat /proc/sys/kernel/random/boot_id", wait_s=20.0).strip()
            except subprocess.TimeoutExpired:
                now = ""
            if now and now != before:
                return
            time.sleep(1.0)
        raise SystemExit("the guest did not start again")

    def boot_id(self) -> str:
        """Return the name of its present boot."""
        return self.run("cat /proc/sys/kernel/random/boot_id").strip()

    def begin_run(self, job: str, more: str = "") -> None:
        """Start a run in the background, as a unit of its own, and wait until its load does its work."""
        name = Path(job).stem
        self.run(f"mkdir -p {PLACE}; systemctl reset-failed {name} 2>/dev/null; rm -f {job}*")
        self.run(
            f"systemd-run -q --unit={name} -p OOMPolicy=continue thresher run --load integer --cores 0 --for 30m"
            f" --job {job} {more}",
            check=True,
        )
        until = time.monotonic() + 400
        while time.monotonic() < until:
            if '"block checks"' in self.run(f"journalctl -u {name} -n 3 -o cat; {_marks(job)}"):
                return
            time.sleep(2.0)
        raise SystemExit(f"the run did not begin: {self.run(f'journalctl -u {name} -n 30 -o cat')}")

    def endings(self, job: str) -> list[dict[str, Any]]:
        """Open the job as the next start does, and return how its runs ended."""
        self.run(f"echo | thresher go-on {job}", wait_s=400.0)
        found: dict[str, Any] = json.loads(self.run(f"thresher endings {job} --json"))
        return list(found["endings"])


def _marks(job: str) -> str:
    """Return a command that prints the kinds of marks that a job file holds so far."""
    query = "import sqlite3,sys; print([k for (k,) in sqlite3.connect(sys.argv[1]).execute('SELECT kind FROM marks')])"
    return f'python3 -c "{query}" {job} | tr "\'" \'"\''
