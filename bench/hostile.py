"""Throw damaged and crafted inputs at everything that reads files or lines of others, for a given time.

    python bench/hostile.py --minutes 30 --seed 1

Each input is a good one that was damaged: bytes turned, pieces cut, doubled or put elsewhere, numbers made huge, signs
and brackets piled up. What counts as a failure: an error that is none of ours (a traceback for the user), an input that
takes longer than 10 s, growth by more than 500 MB, a file outside the folder of the test. The count by kind is printed.
"""

import argparse
import hashlib
import io
import os
import random
import re
import resource
import signal
import struct
import sys
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from thresher.app.stored_job import stored_history, stored_snapshot
from thresher.app.stored_verdict import job_verdict
from thresher.compose.sheet_file import load_sheet, shipped_sheets
from thresher.decoding.logs import read_log as read_kernel_log
from thresher.decoding.recognise import Tables, decode_text, load_tables
from thresher.diagnosis.decision import default_price_list, read_prices
from thresher.drives import ata, nvme, scsi
from thresher.engine.assembly import open_engine
from thresher.importers.csv_log import guess, match_log, read_log
from thresher.inventory.machine import read_inventory
from thresher.journal.jobfile import JobFile
from thresher.journal.rows import Row, Write, line_of_row
from thresher.journal.writer import JournalWriter
from thresher.machine.capture import CapturedSystem, RecordingSystem, write_capture
from thresher.model.drive_commands import AtaCommand, NvmeCommand, ScsiCommand
from thresher.model.errors import InputError, InputFault, SourceUnavailable, ThresherError
from thresher.model.vendors import Vendor
from thresher.protocol.wire import RefusedRequest, decode_request
from thresher.report.html import render
from thresher.sensors.discovery import discover
from thresher.shop.store import read_closed_jobs, read_shelf
from thresher.simulator.drive_work import DriveState
from thresher.simulator.drives import SimulatedDrive
from thresher.simulator.event_log_writer import Event, write_log
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import DriveSpec, load_scenario, shipped_scenarios
from thresher.system_logs.event_log import read_event_log
from thresher.system_logs.installed import find_systems
from thresher.system_logs.meanings import load_meanings
from thresher.system_logs.reading import read_system

LONGEST_S, MOST_GROWTH = 10.0, 500 << 20
PIECES = (
    b"[" * 3000,
    b"{" * 3000,
    b"-",
    b"1e999",
    b"nan",
    b"\x00",
    b"\xff\xfe",
    b"9" * 400,
    b'"',
    b"\x1b[2J",
    b"\n" * 50,
)
RESCUE = b"".join(
    [
        b'{"rescue": "0f", "job": "z.thresher"}\n',
        line_of_row(Row(1, Write.MARK, (None, 12.0, "note", "{}"))),
        line_of_row(Row(2, Write.TICK, (1, 12.0, 1e9, 0, b"\0\0\0\0", None))),
        line_of_row(Row(3, Write.END_RUN, (20.0, "finished", "", 1))),
    ]
)
SHEET = """
format = "thresher-sheet/1"
title = "Two minutes"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = 120
"""
CSV = "time,Socket [°C],+12V [V],Fan [RPM]\n" + "".join(f"{n},{60 + n % 5},12.{n % 9},{900 + n}\n" for n in range(60))
SHELF = '{"format": "thresher-shelf/1", "parts": [{"tag": "SHOP-1", "kind": "memory", "name": "Mussel Bank"}]}'
CLOSED = '{"format": "thresher-closed-jobs/2", "jobs": []}'
LINES = (
    b'{"jsonrpc":"2.0","id":1,"method":"limit.set","params":{"channel":"k","side":"below","value":60.5,"reason":"x"}}',
    b'{"jsonrpc":"2.0","id":"a","method":"run.start","params":{}}',
    b'{"jsonrpc":"2.0","method":"jobs.list"}',
)


@dataclass(frozen=True, slots=True)
class Kind:
    """Something that reads what others have made: good inputs, and what is done with a damaged one."""

    name: str
    good: tuple[bytes, ...]
    use: Callable[[bytes, Path], None]


def damaged(content: bytes, rng: random.Random) -> bytes:
    """Return a good input with one kind of damage, sometimes several."""
    data = bytearray(content)
    for _ in range(rng.choice((1, 1, 1, 3, 10))):
        if data:
            rng.choice(DAMAGES)(data, rng, rng.randrange(len(data)))
    return bytes(data)


def _turn(data: bytearray, rng: random.Random, at: int) -> None:
    data[at] = rng.randrange(256)


def _take_out(data: bytearray, rng: random.Random, at: int) -> None:
    del data[at : at + rng.randrange(1, 200)]


def _put_in(data: bytearray, rng: random.Random, at: int) -> None:
    data[at:at] = rng.choice(PIECES)


def _repeat(data: bytearray, rng: random.Random, at: int) -> None:
    data[at:at] = data[at : at + rng.randrange(1, 400)] * rng.randrange(1, 20)


def _cut(data: bytearray, _rng: random.Random, at: int) -> None:
    del data[at:]


def _spoil(data: bytearray, rng: random.Random, _at: int) -> None:
    for _ in range(200):
        data[rng.randrange(len(data))] = rng.randrange(256)


def _change_number(data: bytearray, rng: random.Random, at: int) -> None:
    digit = next((n for n in range(at, len(data)) if 48 <= data[n] <= 57), None)
    if digit is not None:
        data[digit : digit + 1] = rng.choice((b"-1", b"1e308", b"99999999999999999999", b"0", b"inf"))


DAMAGES = (_turn, _take_out, _put_in, _repeat, _cut, _spoil, _change_number)


def as_file(name: str, use: Callable[[Path], object]) -> Callable[[bytes, Path], None]:
    """Let something that reads files read an input."""

    def carry_out(content: bytes, folder: Path) -> None:
        path = folder / name
        path.write_bytes(content)
        use(path)

    return carry_out


def read_job(path: Path) -> None:
    """Read everything of a job file that any verb or window does."""
    with JobFile(path, read_only=True) as stored:
        verdict = job_verdict(stored)
        stored_snapshot(stored, verdict)
        stored_history(stored)
        render(stored, verdict)


def open_job(path: Path) -> None:
    """Open a job file on the bench, as its window would, and close it again; what it holds beside it goes too."""
    for left in path.parent.glob(f"{path.name}?*"):
        left.unlink()
    machine = SimulatedMachine(load_scenario(shipped_scenarios()["ferry-office"]), 0.0)
    engine = open_engine(machine, path)
    engine.snapshot()
    engine.close()


def put_back_rows(path: Path) -> None:
    """Open a job file with a damaged file of waiting rows beside it."""
    job = path.with_name(path.name.removesuffix(".rescue"))
    for left in path.parent.glob(f"{job.name}*"):
        if left != path:
            left.unlink()
    JournalWriter(job).close()
    with JobFile(job, read_only=True) as stored:
        stored.runs()


def read_capture(path: Path) -> None:
    """Open a capture and read the machine in it."""
    system = CapturedSystem(path)
    try:
        inventory = read_inventory(system)
        discover(system, inventory)
    finally:
        system.close()


def open_scenario(path: Path) -> None:
    """A scenario that is called right must open and live."""
    machine = SimulatedMachine(load_scenario(path), 0.0)
    inventory = read_inventory(machine)
    discover(machine, inventory)
    machine.live_until(machine.now() + 2.0)


def read_csv(path: Path) -> None:
    """Match a log from elsewhere."""
    log = read_log(path)
    match_log(log, guess(log))


def read_line(content: bytes, _folder: Path) -> None:
    """Decode one line of the protocol."""
    try:
        decode_request(content.replace(b"\n", b" "))
    except RefusedRequest:
        return


PAGE_PARSERS: tuple[Callable[[bytes], object], ...] = (
    ata.parse_identity,
    ata.parse_smart,
    ata.parse_thresholds,
    ata.parse_self_tests,
    ata.parse_extended_self_tests,
    ata.parse_error_log,
    ata.parse_extended_error_log,
    ata.parse_link_counters,
    ata.parse_pending,
    nvme.parse_controller,
    nvme.parse_namespace,
    nvme.parse_health,
    nvme.parse_errors,
    nvme.parse_self_tests,
    nvme.parse_firmware,
    nvme.parse_temperature_threshold,
    nvme.parse_thermal_management,
    scsi.parse_temperature,
    lambda data: scsi.parse_errors(data, scsi.READ_ERRORS),
    scsi.parse_start_stop,
    scsi.parse_exceptions,
)


def drive_pages() -> tuple[bytes, ...]:
    """Return every page of a simulated SATA and of a simulated NVMe drive that are both dying."""
    spec = DriveSpec(name="sda", model="T4", serial="1", firmware="1", size_bytes=4 * 10**12, pending=(81920,), hours=9)
    sata = SimulatedDrive(DriveState(spec, lambda: 0.0), "/dev/sda")
    flash = SimulatedDrive(DriveState(replace(spec, name="nvme0n1", failed_test_lba=5), lambda: 0.0), "/dev/nvme0")
    pages: list[bytes] = []
    for command in (*AtaCommand, *NvmeCommand):
        try:
            pages.append(sata.ata(command).data if isinstance(command, AtaCommand) else flash.nvme(command))
        except SourceUnavailable:
            continue  # one that it does not know
    bridge = SimulatedDrive(DriveState(replace(spec, bridge=True), lambda: 0.0), "/dev/sdb")
    for page in ScsiCommand:
        try:
            pages.append(bridge.scsi(page))
        except SourceUnavailable:
            continue
    return tuple(page for page in pages if page)


def read_page(content: bytes, _folder: Path) -> None:
    """Read a page in every way: which one it is cannot be told from it."""
    checked = bytearray(content[:511].ljust(511, b"\0") + b"\0")
    checked[511] = -sum(checked) & 0xFF  # half of them with a checksum that fits, or the parsers are never reached
    for parse in PAGE_PARSERS:
        for data in (content, bytes(checked)):
            try:
                parse(data)
            except ThresherError:
                continue


def event_log() -> bytes:
    """An event log of the other desktop system with all that is read closely in it, its rows of zeros left out."""
    status = (("MCABank", "1"), ("MciStat", "0x9000004000010151"), ("RawData", "43504552" + "00" * 60))
    stop = "0x00000124 (0x0, 0xffff8d0f3b2f8028, 0x00000000be000000, 0x0000000000800400)"
    events = [
        Event("Microsoft-Windows-Kernel-General", 12, 1.7e9),
        Event("Microsoft-Windows-Kernel-Power", 41, 1.7e9 + 5, (("BugcheckCode", "26"), ("BugcheckParameter1", "0x1"))),
        Event("EventLog", 6008, 1.7e9 + 6, ("10:00:00", "3/3/2026")),
        Event("Microsoft-Windows-WHEA-Logger", 19, 1.7e9 + 60, status),
        Event("BugCheck", 1001, 1.7e9 + 90, (("param1", stop),)),
        Event("disk", 7, 1.7e9 + 99, ("\\Device\\Harddisk0\\DR0",)),
        Event("Ntfs", 55, 1.7e9 + 120, (("DriveName", "C:"),)),
    ]
    return write_log(events).rstrip(b"\0") + bytes(8)


def events_read(tables: Tables) -> Callable[[bytes, Path], None]:
    """Return what reads an event log as its process does, filled up to a whole chunk."""
    meanings = load_meanings()

    def read(content: bytes, _folder: Path) -> None:
        whole = content.ljust(4096 + 65536, b"\0")
        read_event_log(io.BytesIO(whole), "x.evtx", tables, meanings, Vendor.INTEL)

    return in_a_child(read)


OUT_OF_TIME = (-signal.SIGXCPU, -signal.SIGKILL)
"""How the kernel ends a process that has used up its processor time (setrlimit(2))."""


def in_a_child(use: Callable[[bytes, Path], None]) -> Callable[[bytes, Path], None]:
    """Return what reads an input in a child with a limit of time, as the program does where a parser may loop.

    A child that used up its time counts as refused in words: that is what the program reports then.
    """

    def read(content: bytes, folder: Path) -> None:
        child = os.fork()
        if child == 0:
            code = 2
            try:
                resource.setrlimit(resource.RLIMIT_CPU, (5, 5))
                use(content, folder)
                code = 0
            except ThresherError:
                code = 1
            finally:
                os._exit(code)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        if code in (1, *OUT_OF_TIME):
            raise InputError("event log", [InputFault("log", "its reader refused it or used up its time")])
        if code:
            kept = Path.cwd() / f"hostile-{hashlib.sha256(content).hexdigest()[:12]}"
            kept.write_bytes(content)
            raise AssertionError(
                f"the reader ended with {signal.Signals(-code).name if code < 0 else code}, {kept.name}"
            )

    return read


def event_dump() -> bytes:
    """The header of a crash dump with a hardware error record behind it."""
    head = bytearray(0x2000)
    head[:8] = b"PAGEDU64"
    head[0x34:0x60] = struct.pack("<II4Q", 8, 0x124, 0, 1, 2, 3) + bytes(4)
    return bytes(head) + b"CPER" + struct.pack("<HIHIII", 0x0210, 0xFFFFFFFF, 2, 1, 0, 400) + bytes(400)


def dumps_read(tables: Tables) -> Callable[[bytes, Path], None]:
    """Return what reads a dump where an installed system keeps it."""

    def read(content: bytes, folder: Path) -> None:
        for name in ("System32", "Minidump"):
            (folder / "Windows" / name).mkdir(parents=True, exist_ok=True)
        (folder / "Windows" / "Minidump" / "x.dmp").write_bytes(content)
        for system in find_systems(folder):
            read_system(system, tables, Vendor.INTEL)

    return read


def make_kinds(folder: Path) -> list[Kind]:
    """Make good inputs of every kind."""
    tables = load_tables()
    scenarios = tuple(path.read_bytes() for path in shipped_scenarios().values())
    job, capture = folder / "good.thresher", folder / "good.tar.gz"
    machine = SimulatedMachine(load_scenario(shipped_scenarios()["lighthouse-playout"]), 0.0)
    engine = open_engine(machine, job)
    sheet = folder / "good.toml"
    sheet.write_text(SHEET)
    engine.run_to_end(load_sheet(sheet))
    engine.close()
    recording = RecordingSystem(SimulatedMachine(load_scenario(shipped_scenarios()["museum-guide"]), 0.0))
    discover(recording, read_inventory(recording))
    write_capture(recording, capture, None)
    log = (Path(__file__).parent.parent / "docs" / "examples" / "counter-kernel.log").read_bytes()

    def kernel_log(path: Path) -> None:
        with path.open("rb") as stream:
            read_kernel_log(stream, Vendor.UNKNOWN, tables.codes, tables.events)

    def typed(content: bytes, _folder: Path) -> None:
        decode_text(content[:4000].decode("utf-8", "replace"), Vendor.INTEL, tables)

    shop = folder / "shop"
    shop.mkdir()
    return [
        Kind("job file", (job.read_bytes(),), as_file("x.thresher", read_job)),
        Kind("job file, opened", (job.read_bytes(),), as_file("y.thresher", open_job)),
        Kind("waiting rows", (RESCUE,), as_file("z.thresher.rescue", put_back_rows)),
        Kind("capture", (capture.read_bytes(),), as_file("x.tar.gz", read_capture)),
        Kind("run sheet", tuple(p.read_bytes() for p in shipped_sheets().values()), as_file("x.toml", load_sheet)),
        Kind("scenario", scenarios, as_file("x.toml", open_scenario)),
        Kind("shelf", (SHELF.encode(),), as_file("shop/shelf.json", lambda p: read_shelf(p.parent))),
        Kind(
            "closed jobs",
            (b'{"format": "thresher-closed-jobs/2", "jobs": []}',),
            as_file("shop/closed-jobs.json", lambda p: read_closed_jobs(p.parent)),
        ),
        Kind("prices", (default_price_list().encode(),), as_file("prices.toml", read_prices)),
        Kind("kernel log", (log,), as_file("x.log", kernel_log)),
        Kind("typed text", (b"0xbe00000000800400", b"0x124 (0x0, 0x1, 0x2, 0x3)", log[:600]), typed),
        Kind("CSV log", (CSV.encode(),), as_file("x.csv", read_csv)),
        Kind("protocol line", LINES, read_line),
        Kind("drive page", drive_pages(), read_page),
        Kind("event log", (event_log(),), events_read(tables)),
        Kind("dump", (event_dump(),), dumps_read(tables)),
    ]


def main() -> int:
    """Run for the time asked for; return 1 when anything failed."""
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--minutes", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kind", default="", help="only inputs of this kind")
    options = parser.parse_args()
    rng = random.Random(options.seed)
    counts: Counter[str] = Counter()
    refused: Counter[str] = Counter()
    failures: Counter[str] = Counter()
    with tempfile.TemporaryDirectory(prefix="thresher-hostile-") as name:
        # what the program puts into the folder for temporary files has to be gone at the end; nothing else is in it
        tempfile.tempdir = str(Path(name) / "temporary")
        folder = Path(name) / "temporary" / "inputs"
        folder.mkdir(parents=True)
        kinds = [kind for kind in make_kinds(folder) if options.kind in ("", kind.name)]
        begun, size = time.monotonic(), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10
        while time.monotonic() - begun < options.minutes * 60:
            kind = rng.choice(kinds)
            content = damaged(rng.choice(kind.good), rng)
            counts[kind.name] += 1
            started = time.monotonic()
            try:
                kind.use(content, folder)
            except ThresherError:
                refused[kind.name] += 1
            except Exception as error:  # noqa: BLE001 (what is looked for)
                places = [f for f in traceback.extract_tb(error.__traceback__) if "/thresher/" in f.filename]
                where = f"{places[-1].filename.rpartition('/thresher/')[2]}:{places[-1].lineno}" if places else "?"
                failures[
                    f"{kind.name}: {type(error).__name__} at {where}: {re.sub(r'[0-9]+|0x..', '#', str(error))[:60]}"
                ] += 1
            if (took := time.monotonic() - started) > LONGEST_S:
                failures[f"{kind.name}: took {took:.0f} s"] += 1
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10) - size
        if grown > MOST_GROWTH:
            failures[f"grew by {grown >> 20} MiB"] += 1
        left = sorted({path.name for path in folder.parent.iterdir()} - {folder.name})
        left += [path.name for path in Path(name).iterdir() if path != folder.parent]
        if left:
            failures[f"left behind: {left[:3]}"] += 1
    for kind_name, count in sorted(counts.items()):
        print(f"{kind_name:15} {count:8} inputs, {refused[kind_name]:8} refused in words")
    total = f"{sum(counts.values()):8} inputs in {options.minutes:g} min, seed {options.seed}"
    print(f"{'all':15} {total}, grown {grown >> 20} MiB")
    for words, count in failures.most_common(40):
        print(f"FAILED {count:6} x {words}")
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())
