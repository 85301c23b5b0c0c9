"""Asks for access and uses all of it as an ordinary user, in the guest; each line says what came of one thing."""

import os
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from thresher.drives.reading import Drive, drives_of, read_health
from thresher.inventory.machine import read_inventory
from thresher.loads.memory.pages import Region
from thresher.machine.live import LiveSystem
from thresher.model.errors import SourceUnavailable, ThresherError
from thresher.sensors.discovery import discover


def tried(name: str, action: Callable[[], object]) -> bool:
    """Do one thing and print what came of it."""
    try:
        print(f"  {'yes':<4} {name}: {action()}", flush=True)
    except (ThresherError, OSError) as error:
        print(f"  {'NO':<4} {name}: {error}", flush=True)
        return False
    return True


def locked(system: LiveSystem) -> str:
    """Take memory as a worker does."""
    end = system.pacing.page_frames()
    if end is None:
        raise SourceUnavailable("page frames", "not given")
    region = Region(64 << 20, frames=end)
    taken = region.taken
    address = region.physical(0)
    region.release()
    if not (taken.locked and taken.has_frames):
        raise SourceUnavailable("memory", f"{taken}")
    return f"{taken.size >> 20} MiB locked, the first word at {address:#x}"


def watched(system: LiveSystem) -> str:
    """Arm the watchdog, feed it, disarm it."""
    dog = system.open_watchdog(60.0)
    words = f"{dog.name}, {dog.timeout_s:g} s, fed: {dog.feed() or 'well'}"
    return f"{words}, off: {dog.close() or 'well'}"


def log_lines(system: LiveSystem) -> str:
    """Read the kernel log to its end, and once more by its reader."""
    log = system.open_kernel_log()
    first = len(log.read_records())
    time.sleep(1.0)
    log.read_records()
    log.close()
    return f"{first} records"


def traced(system: LiveSystem) -> str:
    """Open a trace of hardware errors."""
    trace = system.open_trace()
    found = trace.read_records()
    trace.close()
    return f"open, {len(found)} lines so far"


def blocks(system: LiveSystem, path: str) -> str:
    """Read the first sector of a drive."""
    opened = system.opened_blocks(path)
    if opened is None:
        raise SourceUnavailable(path, "open to this user already")
    with os.fdopen(opened, "rb") as drive:
        first = drive.read(512)
    try:
        os.close(os.open(path, os.O_WRONLY))
    except PermissionError:
        return f"{len(first)} bytes read; writing is refused"
    raise SourceUnavailable(path, "it could be written")


def health(system: LiveSystem, drive: Drive) -> str:
    """Ask a drive for its health."""
    reported = read_health(system, drive)
    if not reported.figures:
        raise SourceUnavailable(drive.path, "; ".join(each.value for each in reported.not_read) or "nothing reported")
    return f"{reported.status.value}, {len(reported.figures)} figures"


def main() -> int:
    """Print what is allowed before and after one question, and everything that it opens; return what failed."""
    system = LiveSystem()
    print(f"before: {system.access().sentence}; {len(read_inventory(system).unknown)} facts unknown", flush=True)
    access = system.ask_access()
    print(f"after one question: {access.sentence} {access.why}", flush=True)
    found = read_inventory(system)
    channels = discover(system, found)
    print(f"inventory: {len(found.unknown)} facts unknown, {len(channels.unknown)} sources not read", flush=True)
    for fact in (*found.unknown, *channels.unknown):
        print(f"       {fact.name}: {fact.value} ({fact.source})")
    drives = [each for each in drives_of(found.parts) if not each.why_not]  # a guest's own disk takes no commands
    job = Path.home() / "a job.thresher"
    checks: list[tuple[str, Callable[[], object]]] = [
        ("firmware tables", lambda: f"{len(system.read('/sys/firmware/dmi/tables/DMI'))} bytes"),
        ("serial numbers", lambda: f"product serial of {len(system.read('/sys/class/dmi/id/product_serial'))} bytes"),
        ("kernel log", lambda: log_lines(system)),
        ("traced hardware errors", lambda: traced(system)),
        ("the kernel's last words", lambda: f"{len(system.list('/var/lib/systemd/pstore'))} folders"),
        ("registers", lambda: system.open_register(0, 0x10).read().decode()),
        ("page frames and memory locks", lambda: locked(system)),
        ("hardware watchdog", lambda: watched(system)),
        ("resume unit", lambda: f"{system.helper.install_restart(job)}, removed: {system.helper.remove_restart()}"),
        *((f"health of {each.part.place}", partial(health, system, each)) for each in drives),
        *((f"reading {each.part.place}", partial(blocks, system, f"/dev/{each.part.place}")) for each in drives),
    ]
    failed = [name for name, action in checks if not tried(name, action)]
    refused = 0
    for path in ("/etc/shadow", "/dev/mem", "/sys/fs/pstore/../../kernel/notes"):
        try:
            system.helper.open_file(path)
        except SourceUnavailable:
            refused += 1
    print(f"  {'yes' if refused == 3 else 'NO':<4} what is not on the list is refused: {refused} of 3")
    print(f"{len(failed)} failed: {failed}")
    system.close()
    return len(failed) + (refused != 3)


if __name__ == "__main__":
    sys.exit(main())
