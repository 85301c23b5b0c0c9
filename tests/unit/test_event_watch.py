"""What a machine reports of errors by all its sources, each error once; and evidence from outside."""

import errno
import os
import re
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import pytest

import thresher
from tests.conftest import Heard
from tests.unit.test_firmware_records import MEMORY, PCIE, memory_section, pcie_section, record, status_block
from tests.unit.test_stop_codes import dump
from thresher.engine.assembly import open_engine
from thresher.engine.run.team_findings import STORM_MOST_S, STORM_S, Storms
from thresher.events.counters import check_settings, read_error_counters
from thresher.events.trace_lines import parse_trace_line
from thresher.journal.jobfile import JobFile
from thresher.machine.live import LiveKernelLog
from thresher.machine.trace import LiveTrace
from thresher.machine.tree import TreeSystem
from thresher.model.errors import InputError, SourceUnavailable
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.verdict import EVERYDAY_USE
from thresher.protocol.events import FindingsEvent
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

WriteTree = Callable[[dict[str, str | bytes]], Path]
MC = "sys/devices/system/edac/mc/mc0"
LINK = "sys/bus/pci/devices/0000:01:00.0"
CE = "EDAC MC0: 1 CE memory read error on DIMM_A1 (channel:0 slot:0)"
MCE = (
    "mce: [Hardware Error]: CPU 2: Machine Check: 0 Bank 1: 9c00004000000135\n"
    "mce: [Hardware Error]: TSC 77f ADDR a567580 MISC 86 \n"
    "mce: [Hardware Error]: PROCESSOR 0:306c3 TIME 1773752833 SOCKET 0 APIC 4 microcode 12b\n"
)
TRACED = (
    "          <idle>-0       [002] d.h1.   100.500000: mce_record: CPU: 2, MCGc/s: f0c14/0, MC1: 9c00004000000135, "
    "IPID: 0000000000000000, ADDR/MISC/SYND: 000000000a567580/0000000000000086/0000000000000000, "
    "RIP: 00:<0000000000000000>, TSC: 77f, PROCESSOR: 0:306c3, TIME: 1773752833, SOCKET: 0, APIC: 4\n"
)


class Watched:
    """An engine on a directory tree, ticked by hand."""

    def __init__(self, root: Path, job: Path) -> None:
        self.root = root
        system = TreeSystem(root)
        self.engine = open_engine(system, job)
        self.heard = Heard()
        self.engine.subscribe(self.heard)
        self._at = system.now()
        self._number = 100

    def log(self, text: str) -> None:
        with (self.root / "dev/kmsg").open("a") as log:
            for line in text.splitlines():
                self._number += 1
                log.write(f"4,{self._number},{self._number * 1000},-;{line}\n")

    def trace(self, text: str) -> None:
        with (self.root / "sys/kernel/tracing/trace_pipe").open("a") as trace:
            trace.write(text)

    def follow(self, seconds: float = 1.0) -> None:
        self._at += seconds
        self.engine.events.follow(self._at)

    def found(self) -> list[tuple[str, int]]:
        return [(each.code, each.count) for each in self.engine.findings]


@pytest.fixture
def watched(write_tree: WriteTree, tmp_path: Path) -> Iterator[Callable[..., Watched]]:
    opened: list[Watched] = []

    def open_on(files: dict[str, str | bytes] | None = None) -> Watched:
        base: dict[str, str | bytes] = {
            "dev/kmsg": "6,1,1000,-;Linux version\n",
            "proc/cpuinfo": "processor\t: 2\nvendor_id\t: GenuineIntel\napicid\t\t: 4\n",
            "sys/kernel/tracing/trace_pipe": "",
        }
        made = Watched(write_tree(base | (files or {})), tmp_path / f"{len(opened)}.thresher")
        opened.append(made)
        return made

    yield open_on
    for each in opened:
        each.engine.close()


def test_an_error_that_log_and_trace_both_tell_counts_once(watched: Callable[..., Watched]) -> None:
    bench = watched()
    bench.log(MCE)
    bench.trace(TRACED)
    bench.follow()
    assert bench.found() == [("P-310", 1)]
    bench.trace(TRACED.replace("100.5", "200.5"))
    bench.follow(30.0)
    assert bench.found() == [("P-310", 1), ("P-310", 1)]  # a second one, reported by the trace alone this time


def test_memory_errors_of_log_trace_and_counter_count_once(watched: Callable[..., Watched]) -> None:
    bench = watched({f"{MC}/dimm0/dimm_ce_count": "3", f"{MC}/dimm0/dimm_label": "DIMM_A1"})
    assert [group.code for group in bench.engine.snapshot().earlier] == ["M-310"]
    bench.log(CE)
    bench.trace(
        "  kworker/0:1-33    [000] .....   12.5: mc_event: 1 Corrected error: memory read error on DIMM_A1 "
        "(mc:0 location:0:0:-1 address:0x12ab grain:32 syndrome:0x00000000)\n"
    )
    (bench.root / MC / "dimm0/dimm_ce_count").write_text("4")
    for _ in range(5):
        bench.follow(11.0)
    assert bench.found() == [("M-310", 1)]


def test_a_counter_that_rises_without_a_line_is_reported_with_the_difference(watched: Callable[..., Watched]) -> None:
    bench = watched(
        {
            f"{MC}/dimm0/dimm_ce_count": "0",
            f"{MC}/dimm0/dimm_ue_count": "0",
            f"{MC}/dimm0/dimm_label": "DIMM_B2",
            f"{LINK}/aer_dev_correctable": "RxErr 0\nBadTLP 0\nTOTAL_ERR_COR 0\n",
        }
    )
    (bench.root / MC / "dimm0/dimm_ce_count").write_text("7")
    (bench.root / LINK / "aer_dev_correctable").write_text("RxErr 40\nBadTLP 2\nTOTAL_ERR_COR 42\n")
    bench.follow(11.0)
    assert bench.found() == []  # its line may still come
    bench.follow(11.0)
    bench.follow(11.0)
    assert sorted(bench.found()) == [("M-310", 7), ("S-510", 42)]
    assert {each.place for each in bench.engine.findings} == {"DIMM_B2", "0000:01:00.0"}
    assert "the log has no line about it" in bench.engine.findings[0].detail


def test_what_firmware_and_the_last_boot_left_is_shown_as_from_before(watched: Callable[..., Watched]) -> None:
    bench = watched(
        {
            "sys/firmware/acpi/tables/data/BERT": status_block(MEMORY, memory_section()),
            "sys/fs/pstore/mce-erst-1": record(PCIE, pcie_section(corrected=1)),
            "sys/fs/pstore/dmesg-efi-1": "Panic#1 Part1\n<4>[   12.3] BUG: soft lockup - CPU#2 stuck for 26s! [x:1]\n",
            "sys/fs/pstore/unknown-1": b"\0\1\2",
        }
    )
    snapshot = bench.engine.snapshot()
    assert sorted(group.code for group in snapshot.earlier) == ["M-320", "P-410", "S-510"]
    assert snapshot.findings == ()
    assert any("from before the bench was opened" in entry.title for entry in snapshot.tape)
    states = {source.name: source.words for source in snapshot.sources}
    assert "3 errors left from before" in states["firmware records"]
    assert states["kernel log"].startswith("followed")


def test_crash_dumps_on_a_customer_s_mounted_drive_are_read(watched: Callable[..., Watched]) -> None:
    bench = watched(
        {
            "proc/mounts": "/dev/sda2 /mnt/the\\040old\\040one ntfs3 ro 0 0\n/dev/sdb1 / ext4 rw 0 0\n",
            "mnt/the old one/Windows/Minidump/031726-0001.dmp": dump(0x124, (0, 5, 0xBE000000, 0x800400)),
            "mnt/the old one/Windows/Minidump/031726-0002.dmp": b"PAGEDUMP" + b"\0" * 100,
            "mnt/the old one/Windows/MEMORY.DMP": dump(0x1A, (0x41792, 2, 3, 4)),
            "Windows/Minidump/not-there.dmp": dump(0x50, (1, 2, 3, 4)),
        }
    )
    snapshot = bench.engine.snapshot()
    assert sorted(group.code for group in snapshot.earlier) == ["E-920", "P-320"]
    assert any("WHEA_UNCORRECTABLE_ERROR" in group.title for group in snapshot.earlier)
    (unread,) = [fact.value for fact in snapshot.unknown if fact.name == "crash dump"]
    assert unread.startswith("it is a dump of a 32-bit")
    assert any(source.name == "crash dumps" for source in snapshot.sources)


class _Stuck(TreeSystem):
    """A machine on which reading below some path does not return until it is let go."""

    def __init__(self, root: Path, below: str) -> None:
        super().__init__(root)
        self._below = below
        self.go = threading.Event()

    def list(self, path: str) -> list[str]:
        self._block(path)
        return super().list(path)

    def read_start(self, path: str, most: int) -> bytes:
        self._block(path)
        return super().read_start(path, most)

    def _block(self, path: str) -> None:
        if path.startswith(self._below):
            self.go.wait(30)


def test_dumps_on_a_drive_that_does_not_answer_hold_up_nothing_and_come_later(
    write_tree: WriteTree, tmp_path: Path
) -> None:
    files: dict[str, str | bytes] = {
        "dev/kmsg": "6,1,1000,-;Linux version\n",
        "proc/mounts": "/dev/sda2 /mnt/old ntfs3 ro 0 0\n",
        "mnt/old/Windows/MEMORY.DMP": dump(0x1A, (0x41792, 2, 3, 4)),
    }
    system = _Stuck(write_tree(files), "/mnt/old")
    engine = open_engine(system, tmp_path / "job.thresher")
    engine.events.follow(system.now() + 1.0)
    assert engine.snapshot().earlier == ()
    system.go.set()
    waited = 0
    while not engine.snapshot().earlier and waited < 200:
        waited += 1
        time.sleep(0.05)
        engine.events.follow(system.now() + 1.0 + waited)
    assert [group.code for group in engine.snapshot().earlier] == ["E-920"]
    engine.close()


def test_settings_that_hide_errors_are_reported(watched: Callable[..., Watched]) -> None:
    check = "sys/devices/system/machinecheck/machinecheck0"
    bench = watched({f"{check}/check_interval": "0", f"{check}/ignore_ce": "1", f"{check}/cmci_disabled": "1"})
    codes = {entry.code for entry in bench.engine.snapshot().tape}
    assert {"X-880", "X-881"} <= codes


def test_settings_as_they_should_be_are_only_listed(write_tree: WriteTree) -> None:
    check = "sys/devices/system/machinecheck/machinecheck0"
    system = TreeSystem(write_tree({f"{check}/check_interval": "300", f"{check}/ignore_ce": "0"}))
    assert [(fact.name, fact.value) for fact in check_settings(system)] == [
        ("polled for corrected errors", "every 300 s")
    ]
    assert read_error_counters(system) == {}


def test_a_machine_without_sources_states_which_cannot_be_read(write_tree: WriteTree, tmp_path: Path) -> None:
    engine = open_engine(TreeSystem(write_tree({"proc/stat": "cpu 1 2 3 4"})), tmp_path / "job.thresher")
    states = {source.name: source.reads for source in engine.snapshot().sources}
    assert (states["kernel log"], states["traced errors"]) == (False, False)
    assert any(fact.name == "kernel log" for fact in engine.unknown)
    engine.close()


def test_a_flood_is_reported_with_growing_pauses_and_no_count_is_lost(watched: Callable[..., Watched]) -> None:
    bench = watched()
    for _ in range(20):
        bench.log("\n".join([CE] * 500))
        bench.follow()
    bench.follow(STORM_MOST_S)
    shown = [count for code, count in bench.found() if code == "M-310"]
    assert sum(shown) == 10_000
    assert len(shown) <= 8
    kept = [entry for entry in bench.heard.tape() if "Corrected memory error" in entry]
    assert len(kept) == len(shown)


def test_pauses_grow_in_a_storm_and_begin_again_after_it() -> None:
    shown: list[Finding] = []
    storms = Storms()
    one = Finding("S-510", FindingKind.LINK_CORRECTED, Severity.WARNING, PartKind.BOARD, 0.0, "t", "d", "x")
    for second in range(1200):
        storms.take(replace(one, at=float(second)), shown.append)
        storms.release(float(second), shown.append)
    storms.release(None, shown.append)
    assert sum(each.count for each in shown) == 1200
    gaps = [later.at - earlier.at for earlier, later in pairwise(shown)]
    assert gaps[0] <= STORM_S + 1
    assert max(gaps) >= STORM_MOST_S - 1
    assert len(shown) < 45


def test_a_kernel_clock_that_runs_ahead_does_not_undo_the_pauses() -> None:
    shown: list[Finding] = []
    storms = Storms()
    one = Finding("S-510", FindingKind.LINK_CORRECTED, Severity.WARNING, PartKind.BOARD, 0.0, "t", "d", "x")
    for second in range(60):
        storms.take(replace(one, at=second * 100.0), shown.append, float(second))
        storms.release(float(second), shown.append)
    assert len(shown) <= 14
    storms.release(None, shown.append)
    assert sum(each.count for each in shown) == 60


# ---- traced lines

T = "x-1 [000] .... 1.0: "


@pytest.mark.parametrize(
    ("line", "code", "place"),
    [
        (
            f"{T}mc_event: 2 Uncorrected errors: on DIMM_B1 (mc:0 location:0:1:-1 address:0x1000 grain:8)",
            "M-320",
            "DIMM_B1",
        ),
        (f"{T}mc_event: 1 Deferred error:read on mc#0 (mc:0 location:0:1:-1 address:0x1000 grain:8)", "M-323", "mc#0"),
        (
            f"{T}aer_event: 0000:01:00.0 PCIe Bus Error: severity=Corrected, Bad TLP, TLP Header=Not available",
            "S-510",
            "0000:01:00.0",
        ),
        (
            f"{T}aer_event: 0000:01:00.0 PCIe Bus Error: severity=Fatal, Malformed TLP, TLP Header=x",
            "S-521",
            "0000:01:00.0",
        ),
        (
            f"{T}extlog_mem_event: {{1}} Corrected error: single-bit physical addr: 00000012ab34 (mask lsb: c)",
            "M-310",
            "",
        ),
        (
            f"{T}arm_event: affinity level: 2; MPIDR: 0000000080000001; MIDR: 00000000410fd080; running state: 1",
            "P-329",
            "MPIDR 0000000080000001",
        ),
        (f"{T}memory_failure_event: pfn 0x3f2a: recovery action for dirty LRU page: Recovered", "M-330", "page 0x3f2a"),
    ],
)
def test_traced_events_become_findings(line: str, code: str, place: str) -> None:
    finding = parse_trace_line(line.encode()).finding
    assert finding is not None
    assert (finding.code, finding.place, finding.at) == (code, place, 1.0)
    assert finding.raw == line


def test_a_traced_machine_check_has_all_its_registers() -> None:
    check = parse_trace_line(TRACED.encode()).check
    assert check is not None
    assert (check.cpu, check.bank, check.status, check.at) == (2, 1, 0x9C00004000000135, 100.5)
    assert (check.address, check.misc, check.mcg_cap, check.apic, check.cpuid) == (0xA567580, 0x86, 0xF0C14, 4, 0x306C3)


@pytest.mark.parametrize(
    "line",
    [
        b"",
        b"garbage",
        b"x-1 [000] .... 1.0: sched_switch: prev=x",
        b"mce_record: CPU: x",
        b"x-1 [0] .... 1.0: mc_event: 1 Info error: x on y (mc:0 location:0 address:0x1",
    ],
)
def test_other_traced_lines_are_nothing(line: bytes) -> None:
    event = parse_trace_line(line)
    assert (event.check, event.finding) == (None, None)


# ---- live sources, as far as this computer has them


def test_the_kernel_s_log_is_read_ahead_so_that_a_flood_is_not_lost(tmp_path: Path) -> None:
    pipe = tmp_path / "kmsg"
    os.mkfifo(pipe)
    log = LiveKernelLog(str(pipe))
    with pipe.open("wb", buffering=0) as writer:
        writer.write(b"4,0,0,-;before\n")
        assert log.read_records() == [b"4,0,0,-;before\n"]
        for number in range(3_000):
            writer.write(f"4,{number},{number},-;line {number}\n".encode())
        deadline = time.monotonic() + 20
        joined = b""
        while time.monotonic() < deadline and b"line 2999\n" not in joined:
            joined += b"".join(log.read_records())
            time.sleep(0.01)
        assert [f"line {number}\n".encode() in joined for number in (0, 1_500, 2_999)] == [True] * 3
        assert joined.count(b"\n") == 3_000
    deadline = time.monotonic() + 20
    with pytest.raises(SourceUnavailable, match="its reader has ended"):
        while time.monotonic() < deadline:
            log.read_records()
            time.sleep(0.01)
    log.close()


def test_a_log_that_is_not_there_states_so(tmp_path: Path) -> None:
    with pytest.raises(SourceUnavailable, match="not there"):
        LiveKernelLog(str(tmp_path / "none"))


def test_tracing_without_tracefs_states_what_to_do(tmp_path: Path) -> None:
    with pytest.raises(SourceUnavailable, match="mount -t tracefs"):
        LiveTrace((tmp_path,))
    (tmp_path / "events").mkdir()
    with pytest.raises(SourceUnavailable):
        LiveTrace((tmp_path,))


def test_tracing_that_only_root_may_look_into_is_reported(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    def refuse(path: Path, **_options: object) -> os.stat_result:
        raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), str(path))

    monkeypatch.setattr(Path, "stat", refuse)
    with pytest.raises(SourceUnavailable, match="traced for root only"):
        LiveTrace((tmp_path,))


def test_no_probe_of_a_path_raises_where_it_may_not_look() -> None:
    """`Path.exists` and its like raise PermissionError below a closed folder; the program uses its own instead."""
    asking = re.compile(r"\.(exists|is_dir|is_file|is_symlink|is_mount)\(\)")
    source = Path(thresher.__file__).parent
    assert [str(path) for path in source.rglob("*.py") if asking.search(path.read_text(encoding="utf-8"))] == []


def test_a_trace_instance_of_our_own_is_made_and_taken_away() -> None:
    try:
        trace = LiveTrace()
    except SourceUnavailable as error:
        pytest.skip(f"no tracing here: {error}")
    assert trace.path.is_dir()
    assert trace.read_records() == []
    (trace.path / "trace_marker").write_text("hello")
    deadline = time.monotonic() + 10
    lines: list[bytes] = []
    while time.monotonic() < deadline and not lines:
        lines = trace.read_records()
        time.sleep(0.02)
    assert any(b"hello" in line for line in lines)
    trace.close()
    assert not trace.path.exists()


# ---- evidence from outside


def outside(code: str = "P-320", count: int = 1) -> Finding:
    kind = FindingKind.UNCORRECTED_CHECK
    return Finding(
        code, kind, Severity.FAULT, PartKind.PROCESSOR, 0.0, "Stop", "d", "core 3", core=3, count=count, raw="r"
    )


def test_evidence_from_outside_counts_is_kept_and_can_be_taken_back(ferry: Scenario, tmp_path: Path) -> None:
    job = tmp_path / "job.thresher"
    model = SimulatedMachine(ferry, 0.0)
    engine = open_engine(model, job)
    heard = Heard()
    engine.subscribe(heard)
    engine.watch(2)
    before = engine.verdict
    assert before is not None
    when = model.wall() - 3600.0
    (added,) = engine.added_evidence.add((outside(count=6),), "a photo", when, "with the old module", 600.0)
    assert (added.origin, added.configuration, added.load) == ("a photo", "with the old module", EVERYDAY_USE)
    assert added.at == pytest.approx(model.now() - 3600.0)
    engine.watch(2)
    after = engine.verdict
    assert after is not None
    healthy = [next(s.probability for s in v.suspects if s.mode == "nothing") for v in (before, after)]
    assert healthy[1] < healthy[0] / 2
    engine.close()
    with JobFile(job) as stored:
        assert stored.findings_outside() == [added]
        assert [each.minutes for each in stored.exposures_outside()] == [600.0]
    again = open_engine(SimulatedMachine(ferry, 0.0), job)
    assert again.findings == (added,)
    with pytest.raises(InputError, match="nothing was added since"):
        again.added_evidence.undo()
    again.added_evidence.add((outside(),), "a slip", None, "", 0.0)
    shown = Heard()
    again.subscribe(shown)
    again.added_evidence.undo()
    assert any(isinstance(event, FindingsEvent) and event.findings == (added,) for event in shown.events)
    again.close()
    with JobFile(job) as stored:
        assert stored.findings_outside() == [added]
        assert stored.summary().findings == 1


def test_faulty_evidence_is_refused_with_every_fault(ferry: Scenario, tmp_path: Path) -> None:
    engine = open_engine(SimulatedMachine(ferry, 0.0), tmp_path / "job.thresher")
    with pytest.raises(InputError) as caught:
        engine.added_evidence.add((), " ", None, "", -1.0)
    message = str(caught.value)
    assert "nothing to add" in message
    assert "minutes" in message
    assert "say where it came from" in message
    with pytest.raises(InputError, match="nothing was written"):
        engine.added_evidence.note("  \n ")
    assert engine.added_evidence.note("two long beeps:  no memory,\nsays the board's manual").detail.startswith(
        "two long beeps: no"
    )
    engine.close()
