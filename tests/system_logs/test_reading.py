"""Whole systems on a folder: which files are read, each error once, what is not read with its reason."""

import io
import os
import resource
import signal
import struct
import sys
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.system_logs.conftest import NOON
from tests.system_logs.test_event_log import memory_record
from thresher.cli.system_logs_reading import chosen
from thresher.decoding.recognise import Tables, load_tables
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.vendors import Vendor
from thresher.simulator.event_log_writer import Event, write_log
from thresher.system_logs.event_log import read_event_log
from thresher.system_logs.installed import FileKind, find_systems
from thresher.system_logs.journal_boots import STARTED, STOPPED, boots_of
from thresher.system_logs.meanings import TimelineKind, load_meanings, parse_meanings
from thresher.system_logs.read_process import read_apart
from thresher.system_logs.reading import changes_before, read_system
from thresher.system_logs.volumes import Volume, opened, parse_volumes
from thresher.system_logs.worker import seconds_for

W = "Microsoft-Windows-"
DAY = 86400.0


def windows(root: Path, events: list[Event]) -> Path:
    logs = root / "Windows" / "System32" / "winevt" / "Logs"
    logs.mkdir(parents=True)
    (logs / "System.evtx").write_bytes(write_log(events))
    return logs


def dump(number: int, ticks: int, parameters: tuple[int, ...] = (0, 0, 0, 0), rest: bytes = b"") -> bytes:
    """A 64-bit kernel dump's header: code at 38H, parameters from 40H, time at FA8H."""
    content = bytearray(8192)
    content[:8] = b"PAGEDU64"
    struct.pack_into("<II", content, 0x34, 8, number)
    struct.pack_into("<4Q", content, 0x40, *parameters)
    struct.pack_into("<Q", content, 0xFA8, ticks)
    return bytes(content) + rest


def ticks(at: float) -> int:
    return round((at + 11_644_473_600) * 10_000_000)


def test_logs_and_dumps_of_a_system_are_found_in_any_case(tmp_path: Path) -> None:
    logs = tmp_path / "WINDOWS" / "system32" / "WinEvt" / "logs"
    logs.mkdir(parents=True)
    (logs / "SYSTEM.EVTX").write_bytes(b"")
    (logs / "Security.evtx").write_bytes(b"")
    (tmp_path / "WINDOWS" / "MiniDump").mkdir()
    (tmp_path / "WINDOWS" / "MiniDump" / "030326-01.dmp").write_bytes(b"")
    (tmp_path / "WINDOWS" / "MEMORY.DMP").write_bytes(b"")
    (system,) = find_systems(tmp_path)
    kinds = [(each.path.name, each.kind) for each in system.files]
    assert kinds == [
        ("SYSTEM.EVTX", FileKind.EVENT_LOG),
        ("030326-01.dmp", FileKind.DUMP),
        ("MEMORY.DMP", FileKind.DUMP),
    ], "who logged in is nobody's business here"


def test_links_out_of_the_drive_are_not_followed(tmp_path: Path) -> None:
    secret = tmp_path / "secret"
    windows(secret, [Event("disk", 7, NOON)])
    drive = tmp_path / "drive"
    drive.mkdir()
    (drive / "Windows").symlink_to(secret / "Windows")
    assert find_systems(drive) == []


def test_a_linux_system_that_leads_out_of_its_drive_is_not_read(tmp_path: Path) -> None:
    outside, drive = tmp_path / "outside", tmp_path / "drive"
    (outside / "log").mkdir(parents=True)
    (outside / "log" / "kern.log").write_text("secret\n")
    drive.mkdir()
    (drive / "var").symlink_to(outside)
    assert find_systems(drive) == []


def test_the_name_of_a_linux_system_holds_nobody_up(tmp_path: Path) -> None:
    (tmp_path / "var" / "log").mkdir(parents=True)
    for place in ("etc", "usr/lib"):
        (tmp_path / place).mkdir(parents=True)
    os.mkfifo(tmp_path / "etc" / "os-release")
    (tmp_path / "usr/lib/os-release").write_text('PRETTY_NAME="Harbour Linux 3"\n')
    (system,) = find_systems(tmp_path)
    assert system.what == "Harbour Linux 3"


def test_a_folder_without_a_system_has_none(tmp_path: Path) -> None:
    (tmp_path / "Photographs").mkdir()
    assert find_systems(tmp_path) == []
    assert find_systems(tmp_path / "gone") == []


def test_everything_is_put_together_once(tmp_path: Path, tables: Tables) -> None:
    event = Event(f"{W}WHEA-Logger", 47, NOON, (("RawData", memory_record().hex()),), 3)
    stop = Event("BugCheck", 1001, NOON + 60, (("param1", "0x0000001a (0x41792, 0x1008, 0x10, 0x0)"),), 2)
    logs = windows(tmp_path, [Event(f"{W}Kernel-General", 12, NOON - 100), event, stop])
    (logs / "Microsoft-Windows-Kernel-WHEA%4Errors.evtx").write_bytes(write_log([event]))
    small = tmp_path / "Windows" / "Minidump"
    small.mkdir()
    (small / "a.dmp").write_bytes(dump(0x1A, ticks(NOON + 30), (0x41792, 0x1008, 0x10, 0)))
    (small / "b.dmp").write_bytes(b"PAGEDU64")
    (system,) = find_systems(tmp_path)
    read = read_system(system, tables, Vendor.INTEL)
    assert [each.kind for each in read.findings] == [FindingKind.MEMORY_CORRECTED, FindingKind.STOP_SCREEN]
    assert all(each.origin.startswith("the other common desktop system on") for each in read.findings)
    by_name = {Path(each.path).name: each for each in read.files}
    assert by_name["System.evtx"].words == "3 events, 2 of them evidence"
    assert "ends after 8 bytes" in by_name["b.dmp"].trouble


def test_a_small_dump_carries_its_hardware_record(tmp_path: Path, tables: Tables) -> None:
    windows(tmp_path, [])
    (tmp_path / "Windows" / "Minidump").mkdir()
    content = dump(0x124, ticks(NOON), rest=bytes(300) + memory_record() + bytes(64))
    (tmp_path / "Windows" / "Minidump" / "a.dmp").write_bytes(content)
    (system,) = find_systems(tmp_path)
    (finding,) = read_system(system, tables, Vendor.INTEL).findings
    assert (finding.part, finding.at, finding.address) == (PartKind.MEMORY, NOON, 0x12345000)
    # the event of the same stop, written at the start after it, adds no second error
    text = "0x00000124 (0x0, 0xffff8d0f3b2f8028, 0x00000000be000000, 0x0000000000800400)"
    stop = Event("BugCheck", 1001, NOON + 90, (("param1", text),), 2)
    log = tmp_path / "Windows" / "System32" / "winevt" / "Logs" / "System.evtx"
    log.write_bytes(write_log([stop]))
    (finding,) = read_system(system, tables, Vendor.INTEL).findings
    assert (finding.part, finding.address) == (PartKind.MEMORY, 0x12345000), "the dump has more of it"


def test_an_empty_or_foreign_log_is_listed_with_its_reason(tmp_path: Path, tables: Tables) -> None:
    logs = windows(tmp_path, [])
    (logs / "Application.evtx").write_bytes(b"no log at all")
    (system,) = find_systems(tmp_path)
    read = read_system(system, tables, Vendor.INTEL)
    assert (
        "does not begin as an event log"
        in {Path(each.path).name: each.trouble for each in read.files}["Application.evtx"]
    )
    assert read.findings == ()


def test_a_pipe_or_a_folder_in_a_logs_place_holds_nobody_up(tmp_path: Path, tables: Tables) -> None:
    logs = windows(tmp_path, [])
    os.mkfifo(logs / "Application.evtx")
    (tmp_path / "Windows" / "Minidump").mkdir()
    (tmp_path / "Windows" / "Minidump" / "a.dmp").mkdir()
    (system,) = find_systems(tmp_path)
    troubles = {Path(each.path).name: each.trouble for each in read_system(system, tables, Vendor.INTEL).files}
    assert "not a regular file" in troubles["Application.evtx"]
    assert troubles["a.dmp"]


def test_reading_stops_when_it_is_asked_to(tmp_path: Path, tables: Tables) -> None:
    windows(tmp_path, [Event("disk", 7, NOON)])
    (system,) = find_systems(tmp_path)
    read = read_system(system, tables, Vendor.INTEL, lambda _name: False)
    assert (read.findings, read.files[0].trouble) == ((), "reading was stopped before it")


def test_errors_that_began_after_a_change_are_named_with_it(tmp_path: Path, tables: Tables) -> None:
    start = Event(f"{W}Kernel-General", 12, NOON - 40 * DAY)
    card = Event(f"{W}UserPnp", 20001, NOON, (("DeviceDescription", "Kestrel graphics card"),))
    hangs = [Event("Display", 4101, NOON + day * DAY, ("kestrelkmd",)) for day in (1, 2, 3)]
    windows(tmp_path, [start, card, *hangs])
    (system,) = find_systems(tmp_path)
    (sentence,) = changes_before(read_system(system, tables, Vendor.INTEL))
    assert sentence.startswith(
        "The graphics driver stopped responding and came back: 3, beginning within a week after a change on 2026-03-03"
    )
    assert "Kestrel graphics card" in sentence


def test_errors_that_were_there_before_are_not_put_down_to_a_change(tmp_path: Path, tables: Tables) -> None:
    hangs = [Event("Display", 4101, NOON + day * DAY, ("kestrelkmd",)) for day in (-30, 1, 2)]
    card = Event(f"{W}UserPnp", 20001, NOON, (("DeviceDescription", "Kestrel graphics card"),))
    windows(tmp_path, sorted([card, *hangs], key=lambda each: each.at))
    (system,) = find_systems(tmp_path)
    assert changes_before(read_system(system, tables, Vendor.INTEL)) == ()


def test_a_linux_system_tells_by_its_kernel_log(tmp_path: Path, tables: Tables) -> None:
    log = tmp_path / "var" / "log"
    log.mkdir(parents=True)
    (tmp_path / "etc").mkdir()
    (tmp_path / "etc" / "os-release").write_text('PRETTY_NAME="Harbour Linux 3"\n')
    (log / "kern.log").write_text(
        "2026-03-03T12:00:00.000000+00:00 quay kernel: [   10.0] EDAC MC0: 1 CE memory read error on DIMM_A1 (x)\n"
    )
    (log / "auth.log").write_text("nobody's business\n")
    (system,) = find_systems(tmp_path)
    assert system.what == "Harbour Linux 3"
    read = read_system(system, tables, Vendor.INTEL)
    (finding,) = read.findings
    assert (finding.kind, finding.place) == (FindingKind.MEMORY_CORRECTED, "DIMM_A1")


def test_boots_of_a_journal_without_an_orderly_end_are_sudden_ends() -> None:
    def line(boot: str, at: int, message: str) -> str:
        return f'{{"_BOOT_ID":"{boot}","__REALTIME_TIMESTAMP":"{at}000000","MESSAGE_ID":"{message}"}}'

    lines = [
        line("a", 100, STARTED),
        line("a", 110, STOPPED),  # the initial system hands over
        line("a", 111, STARTED),
        line("a", 500, STOPPED),
        line("b", 600, STARTED),
        line("b", 610, STOPPED),
        line("b", 611, STARTED),
        "damaged {",
        line("c", 900, STARTED),
    ]
    events = [(each.at, each.kind) for each in boots_of(lines)]
    assert events == [
        (100.0, TimelineKind.START),
        (500.0, TimelineKind.CLEAN_SHUTDOWN),
        (600.0, TimelineKind.START),
        (900.0, TimelineKind.SUDDEN_END),
        (900.0, TimelineKind.START),
    ]


# ---- reading apart


def test_the_reading_process_works_without_rights_to_the_file(tmp_path: Path) -> None:
    log = tmp_path / "System.evtx"
    log.write_bytes(write_log([Event("disk", 7, NOON, (r"\Device\Harddisk0\DR0",))]))
    log.chmod(0o600)
    assert len(read_apart(log, "event-log", Vendor.INTEL).log.findings) == 1


def test_a_reader_that_turns_in_circles_is_ended(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    log = tmp_path / "System.evtx"
    log.write_bytes(b"ElfFile\x00")
    circles = "import resource; resource.setrlimit(resource.RLIMIT_CPU, (1, 1))\nwhile True: pass"
    monkeypatch.setattr("thresher.system_logs.read_process.own_command", lambda *_: [sys.executable, "-c", circles])
    with pytest.raises(EnvironmentFault, match="used up the time"):
        read_apart(log, "event-log", Vendor.INTEL)


def test_how_long_a_file_may_take_goes_by_its_size() -> None:
    assert seconds_for(70_000) == 30
    assert seconds_for(40_000_000) == 130
    assert seconds_for(10_000_000_000) == 600
    assert seconds_for(0) == 600, "a pipe"


def test_a_file_that_is_none_is_an_error_with_its_name(tmp_path: Path) -> None:
    log = tmp_path / "System.evtx"
    log.write_bytes(b"ElfFile\x00" + os.urandom(4000))
    try:
        read = read_apart(log, "event-log", Vendor.INTEL)
    except EnvironmentFault as error:
        assert str(log) in str(error)
    else:
        assert read.log.findings == ()
    with pytest.raises(EnvironmentFault, match="gone"):
        read_apart(tmp_path / "gone.evtx", "event-log", Vendor.INTEL)


@settings(max_examples=150)
@given(st.data())
def test_a_changed_log_never_breaks_the_reader(data: st.DataObject) -> None:
    content = bytearray(_LOG)
    for _ in range(data.draw(st.integers(1, 12))):
        at = data.draw(st.integers(0, _USED - 1))
        content[at] = data.draw(st.integers(0, 255))
    cut = data.draw(st.integers(_USED // 2, len(content)))
    assert ended(bytes(content[:cut])) in (READ, REFUSED, -signal.SIGXCPU)


READ, REFUSED, BROKEN = 0, 1, 2


def ended(content: bytes) -> int:
    """Read a log in a child, as the program does, since its parser can loop; return how that ended."""
    child = os.fork()
    if child == 0:
        code = BROKEN
        try:
            resource.setrlimit(resource.RLIMIT_CPU, (4, 4))
            found = read_event_log(io.BytesIO(content), "System.evtx", _TABLES, _MEANINGS)
            code = READ if len(found.log.findings) <= 60 else BROKEN
        except InputError:
            code = REFUSED
        finally:
            os._exit(code)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


_TABLES, _MEANINGS = load_tables(), load_meanings()
_LOG = write_log(
    [Event("disk", 7, NOON + number, (r"\Device\Harddisk0\DR0", ("Named", "value"))) for number in range(30)]
    + [Event(f"{W}WHEA-Logger", 47, NOON, (("RawData", memory_record().hex()),))]
)
_USED = len(_LOG.rstrip(b"\x00"))


def test_the_directory_refuses_what_contradicts_itself() -> None:
    text = 'format = "thresher-system-events/1"\n' + 2 * (
        '[[events]]\nproviders = ["disk"]\nnumbers = [7]\ntitle = "t"\nsays = "s"\ncode = "Z-999"\n'
        'kind = "drive worn out"\npart = "drive"\nweight = 3.0\n'
    )
    with pytest.raises(InputError) as caught:
        parse_meanings(text, "events.toml")
    words = str(caught.value)
    for expected in ("known code", "weight", "given twice"):
        assert expected in words


# ---- volumes

LSBLK = """{"blockdevices":[
 {"path":"/dev/sda","fstype":null,"label":null,"size":500107862016,"model":"PETREL SSD","mountpoint":null,"children":[
  {"path":"/dev/sda1","fstype":"vfat","label":"SYSTEM","size":104857600,"model":null,"mountpoint":null},
  {"path":"/dev/sda2","fstype":"BitLocker","label":null,"size":1000000,"model":null,"mountpoint":null},
  {"path":"/dev/sda3","fstype":"ntfs","label":"Customer","size":400000000000,"model":null,"mountpoint":null},
  {"path":"/dev/sda4","fstype":"swap","label":null,"size":1000000,"model":null,"mountpoint":"[SWAP]"},
  {"path":"/dev/sda5","fstype":"apfs","label":null,"size":1000000,"model":null,"mountpoint":null}]},
 {"path":"/dev/sdb","fstype":"iso9660","label":"THRESHER","size":4000000000,"model":"Stick","mountpoint":null,"children":[
  {"path":"/dev/sdb3","fstype":"ext4","label":"THRESHER-JOBS","size":1000000,"model":null,"mountpoint":"/var/lib/thresher"}]}
]}"""


def test_file_systems_are_listed_with_why_some_are_left_alone() -> None:
    volumes = parse_volumes(LSBLK)
    assert [each.device for each in volumes] == ["/dev/sda1", "/dev/sda2", "/dev/sda3", "/dev/sda5"]
    assert volumes[1].locked == "encrypted (BitLocker); left alone"
    assert volumes[2].words == "/dev/sda3: Customer, 400.0 GB, ntfs, PETREL SSD"
    assert "not read here" in volumes[3].locked
    with pytest.raises(InputError):
        parse_volumes("no json")


def test_the_running_system_is_named_and_is_read_only_when_it_is_chosen(monkeypatch: pytest.MonkeyPatch) -> None:
    listing = LSBLK.replace(
        '"label":"Customer","size":400000000000,"model":null,"mountpoint":null',
        '"label":"Customer","size":4,"mountpoint":"/"',
    )
    monkeypatch.setattr("thresher.cli.system_logs_reading.find_volumes", lambda: parse_volumes(listing))
    volumes = parse_volumes(listing)
    assert volumes[2].words.endswith(", the system that is running")
    assert [each.device for each in chosen([]) if isinstance(each, Volume)] == ["/dev/sda1", "/dev/sda2", "/dev/sda5"]
    assert [each.device for each in chosen(["sda3"]) if isinstance(each, Volume)] == ["/dev/sda3"]


def test_a_volume_is_mounted_read_only_without_its_log_and_let_go_again(tmp_path: Path) -> None:
    commands: list[list[str]] = []

    def tools(command: Sequence[str], given: str = "") -> str:
        commands.append([*command])
        return read_only if "--getro" in command else ""

    read_only = "0\n"
    volume = Volume("/dev/sda3", "ext4", "", 1, "")
    with pytest.raises(KeyError), opened(volume, tools, root=True) as folder:
        assert folder.is_dir()
        raise KeyError("something went wrong while reading")
    assert commands[1] == ["blockdev", "--setro", "/dev/sda3"]
    assert commands[2][:5] == ["mount", "-t", "ext4", "-o", "ro,noload,nodev,nosuid,noexec"]
    assert commands[3][0] == "umount"
    assert commands[4] == ["blockdev", "--setrw", "/dev/sda3"], "as it was before"
    assert not folder.exists()
    read_only, commands[:] = "1\n", []
    with opened(volume, tools, root=True):
        pass
    assert ["blockdev", "--setrw", "/dev/sda3"] not in commands, "on the stick it stays read only"


def test_a_locked_volume_is_left_alone_and_an_ordinary_user_is_told(tmp_path: Path) -> None:
    def tools(command: object, given: str = "") -> str:
        raise AssertionError(command)

    with pytest.raises(EnvironmentFault, match="encrypted"), opened(parse_volumes(LSBLK)[1], tools, root=True):
        pass
    with pytest.raises(EnvironmentFault, match="only root"), opened(parse_volumes(LSBLK)[2], tools, root=False):
        pass


def test_the_journal_of_a_system_is_read_through_the_log_services_own_program(
    tmp_path: Path, tables: Tables, monkeypatch: pytest.MonkeyPatch
) -> None:
    boots = [("a", 1000, STARTED), ("a", 4600, STOPPED), ("b", 9000, STARTED), ("c", 20_000, STARTED)]
    starts = [
        f'{{"_BOOT_ID":"{boot}","__REALTIME_TIMESTAMP":"{at}000000","MESSAGE_ID":"{kind}"}}' for boot, at, kind in boots
    ]
    kernel = (
        '{"__REALTIME_TIMESTAMP":"9100000000","__MONOTONIC_TIMESTAMP":"100000000","_BOOT_ID":"b","_TRANSPORT":"kernel",'
        '"SYSLOG_IDENTIFIER":"kernel","PRIORITY":"4","MESSAGE":"EDAC MC0: 1 CE memory read error on DIMM_B2 (x)"}'
    )
    programs = tmp_path / "programs"
    programs.mkdir()
    script = programs / "journalctl"
    lines = "\n".join(starts)
    script.write_text(
        f'#!/bin/sh\necho "$@" >> {tmp_path}/asked\ncase "$*" in *MESSAGE_ID*) cat <<\'X\'\n{lines}\nX\n;;'
        f" *) cat <<'X'\n{kernel}\nX\n;; esac\n"
    )
    script.chmod(0o755)
    monkeypatch.setenv("PATH", str(programs), prepend=":")
    journal = tmp_path / "drive" / "var" / "log" / "journal" / "0123"
    journal.mkdir(parents=True)
    (journal / "system.journal").write_bytes(b"")
    (system,) = find_systems(tmp_path / "drive")
    read = read_system(system, tables, Vendor.INTEL)
    assert [(each.kind, each.at) for each in read.findings] == [
        (FindingKind.MEMORY_CORRECTED, 9100.0),
        (FindingKind.ENDED_SUDDENLY, 20_000.0),
    ]
    assert read.findings[1].weight < 1.0
    assert read.hours == pytest.approx(1.0, abs=0.01), "boot a lasted from 1000 to 4600 s; the others show no time"
    asked = (tmp_path / "asked").read_text().splitlines()
    assert all(f"--directory={journal}" in line for line in asked), "never this computer's own journal"
