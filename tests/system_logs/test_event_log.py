"""Events of the other desktop system's logs: what each is evidence of, which are harmless, and what belongs together.

Expected codes and kinds are written from the published meanings of the events, one by one.
"""

import struct
import uuid

import pytest

from tests.system_logs.conftest import NOON, ReadEvents
from thresher.model.findings import FindingKind as K
from thresher.model.parts import PartKind as P
from thresher.simulator.event_log_writer import Event
from thresher.system_logs.meanings import TimelineKind

W = "Microsoft-Windows-"
DR0 = r"\Device\Harddisk0\DR0"
PORT = r"\Device\RaidPort1"


@pytest.mark.parametrize(
    ("provider", "number", "data", "code", "kind", "part", "place"),
    [
        ("disk", 7, (DR0,), "D-310", K.DRIVE_FAILED, P.DRIVE, "drive 0"),
        ("disk", 11, (r"\Device\Harddisk3\DR7",), "D-320", K.DRIVE_LINK, P.DRIVE, "drive 3"),
        ("disk", 51, (DR0,), "D-312", K.DRIVE_FAILED, P.DRIVE, "drive 0"),
        ("disk", 52, (DR0,), "D-340", K.DRIVE_WORN, P.DRIVE, "drive 0"),
        ("disk", 153, (DR0,), "D-330", K.DRIVE_SILENT, P.DRIVE, "drive 0"),
        ("disk", 154, (DR0,), "D-314", K.DRIVE_FAILED, P.DRIVE, "drive 0"),
        ("disk", 157, (DR0,), "D-331", K.DRIVE_SILENT, P.DRIVE, "drive 0"),
        ("storahci", 129, (PORT,), "D-330", K.DRIVE_SILENT, P.DRIVE, "port 1"),
        ("stornvme", 129, (PORT,), "D-330", K.DRIVE_SILENT, P.DRIVE, "port 1"),
        ("stornvme", 11, (PORT,), "D-320", K.DRIVE_LINK, P.DRIVE, "port 1"),
        ("atapi", 11, (r"\Device\Ide\IdePort2",), "D-320", K.DRIVE_LINK, P.DRIVE, "port 2"),
        ("atapi", 9, (r"\Device\Ide\IdePort0",), "D-330", K.DRIVE_SILENT, P.DRIVE, "port 0"),
        ("Ntfs", 55, (("DriveName", "D:"),), "D-350", K.FILE_SYSTEM, P.DRIVE, "volume D:"),
        (W + "Ntfs", 140, (("VolumeId", "C:"),), "D-312", K.DRIVE_FAILED, P.DRIVE, "volume C:"),
        (W + "Ntfs", 137, (("DriveName", "C:"),), "D-350", K.FILE_SYSTEM, P.DRIVE, "volume C:"),
        (W + "Ntfs", 132, (), "D-312", K.DRIVE_FAILED, P.DRIVE, ""),
        ("volmgr", 161, (), "D-312", K.DRIVE_FAILED, P.DRIVE, ""),
        ("Display", 4101, ("petrelkmd",), "G-311", K.GRAPHICS_HANG, P.GRAPHICS, "driver petrelkmd"),
        ("nvlddmkm", 13, (r"\Device\Video3",), "G-320", K.GRAPHICS_HANG, P.GRAPHICS, ""),
        ("nvlddmkm", 14, (r"\Device\Video3",), "G-311", K.GRAPHICS_HANG, P.GRAPHICS, ""),
        ("nvlddmkm", 153, (r"\Device\Video3",), "G-311", K.GRAPHICS_HANG, P.GRAPHICS, ""),
        ("amdwddmg", 4101, (), "G-311", K.GRAPHICS_HANG, P.GRAPHICS, ""),
        (W + "Kernel-Power", 86, (("ThermalZoneDeviceInstance", "TZ00"),), "C-240", K.HEAT_SHUTDOWN, P.COOLING, "TZ00"),
        (W + "Kernel-Power", 88, (), "C-201", K.HEAT_LIMIT, P.COOLING, ""),
        (
            W + "Kernel-Processor-Power",
            37,
            (("Number", "5"),),
            "C-210",
            K.HEAT_THROTTLE,
            P.COOLING,
            "processor 5",
        ),
        (W + "MemoryDiagnostics-Results", 1102, (), "M-210", K.MEMORY_WRONG, P.MEMORY, ""),
        (W + "MemoryDiagnostics-Results", 1202, (), "M-210", K.MEMORY_WRONG, P.MEMORY, ""),
        ("ACPI", 13, (), "S-540", K.BOARD_ERROR, P.BOARD, ""),
        (W + "USB-USBXHCI", 196, (), "S-611", K.USB_ERROR, P.BOARD, ""),
        ("rt640x64", 5007, (), "S-630", K.NETWORK_HANG, P.BOARD, ""),
        ("Netwtw10", 5002, (), "S-631", K.NETWORK_HANG, P.BOARD, ""),
        (W + "Kernel-PCI", 10, (), "S-520", K.LINK_UNCORRECTED, P.BOARD, ""),
        (W + "Battery", 521, (), "A-130", K.BATTERY_WRONG, P.BATTERY, ""),
    ],
)
def test_an_event_is_evidence_of_what_its_maker_says(
    read: ReadEvents,
    provider: str,
    number: int,
    data: tuple[str | tuple[str, str], ...],
    code: str,
    kind: K,
    part: P,
    place: str,
) -> None:
    found = read([Event(provider, number, NOON, data)])
    (finding,) = found.log.findings
    assert (finding.code, finding.kind, finding.part, finding.place) == (code, kind, part, place)
    assert finding.at == NOON
    assert found.log.groups[0].first == NOON
    assert found.timeline[0].kind in (TimelineKind.ERROR, TimelineKind.SUDDEN_END)


@pytest.mark.parametrize(
    ("provider", "number"),
    [
        ("DCOM", 10016),
        (W + "DistributedCOM", 10010),
        ("Service Control Manager", 7031),
        ("Service Control Manager", 7036),
        (W + "DNS-Client", 1014),
        (W + "Time-Service", 134),
        (W + "Kernel-EventTracing", 2),
        (W + "Kernel-Power", 42),
        (W + "Kernel-Power", 107),
        (W + "Kernel-Power", 109),
        (W + "Kernel-Power", 137),
        (W + "Kernel-Power", 172),
        (W + "Kernel-Processor-Power", 55),
        (W + "Kernel-PnP", 219),
        (W + "Ntfs", 98),
        (W + "MemoryDiagnostics-Results", 1101),
        ("EventLog", 6006),
        ("EventLog", 6013),
        ("User32", 1074),
        ("disk", 158),
        ("volsnap", 36),
        ("Schannel", 36887),
        (W + "WindowsUpdateClient", 20),
        ("Application Error", 1000),
        ("volmgr", 46),
        (W + "FilterManager", 6),
    ],
)
def test_a_harmless_event_is_counted_and_is_no_evidence(read: ReadEvents, provider: str, number: int) -> None:
    found = read([Event(provider, number, NOON, ("anything",), 2)] * 3)
    assert found.log.findings == ()
    assert found.log.groups == ()
    (note,) = found.log.notes
    assert note.count == 3
    assert note.says
    assert found.unknown == 0


def test_what_is_not_in_the_directory_is_counted_as_unknown(read: ReadEvents) -> None:
    found = read([Event("Petrel Label Service", 77, NOON), Event("disk", 4242, NOON)])
    assert (found.log.findings, found.unknown, found.log.lines) == ((), 2, 2)


KERNEL_POWER = W + "Kernel-Power"


def sudden(at: float, **data: str) -> Event:
    fields = {"BugcheckCode": "0", "SleepInProgress": "0", "PowerButtonTimestamp": "0"} | data
    return Event(KERNEL_POWER, 41, at, tuple(fields.items()), 1)


def test_one_sudden_end_is_one_finding_however_often_it_is_reported(read: ReadEvents) -> None:
    found = read(
        [Event("EventLog", 6008, NOON, ("11:02:13",)), sudden(NOON + 3), Event("EventLog", 6008, NOON + 86400)]
    )
    assert [each.code for each in found.log.findings] == ["E-906", "E-906"]
    first = found.log.findings[0]
    assert first.at == NOON
    assert first.weight < 1.0, "somebody may have pulled the plug"
    assert {kind for kind, _ in first.kinds} == {K.ENDED_SUDDENLY, K.FROZE, K.SWITCHED_OFF}
    assert sum(share for _, share in first.kinds) == pytest.approx(1.0)


def test_a_held_button_means_that_it_did_not_respond(read: ReadEvents) -> None:
    (finding,) = read([sudden(NOON, PowerButtonTimestamp="133853112000000000")]).log.findings
    assert (finding.code, finding.kind) == ("E-903", K.FROZE)


def test_an_end_in_sleep_weighs_less(read: ReadEvents) -> None:
    (asleep,) = read([sudden(NOON, SleepInProgress="4")]).log.findings
    (awake,) = read([sudden(NOON)]).log.findings
    assert asleep.weight < awake.weight / 2
    assert "sleep" in asleep.title


def test_a_stop_code_in_the_next_start_is_the_stop_and_no_unknown_end(read: ReadEvents) -> None:
    # 26 is 1AH, MEMORY_MANAGEMENT
    (finding,) = read([sudden(NOON, BugcheckCode="26", BugcheckParameter1="0x41792")]).log.findings
    assert finding.kind is K.STOP_SCREEN
    assert finding.part is P.MEMORY
    assert "0x1a" in finding.title


def test_the_same_stop_reported_twice_is_one(read: ReadEvents) -> None:
    text = "0x0000001a (0x0000000000041792, 0xffffd80000001008, 0x0000000000000010, 0x0000000000000000)"
    found = read([sudden(NOON, BugcheckCode="26"), Event("BugCheck", 1001, NOON + 20, (("param1", text),), 2)])
    assert len(found.log.findings) == 1
    assert [each.kind for each in found.timeline] == [TimelineKind.STOP]


def test_a_stop_for_a_machine_check_carries_its_status(read: ReadEvents) -> None:
    # 124H: the third and fourth parameter are the upper and lower half of MCi_STATUS: valid, uncorrected, enabled
    text = "0x00000124 (0x0000000000000000, 0xffff8d0f3b2f8028, 0x00000000be000000, 0x0000000000800400)"
    (finding,) = read([Event("BugCheck", 1001, NOON, (("param1", text),), 2)]).log.findings
    assert (finding.kind, finding.part) == (K.UNCORRECTED_CHECK, P.PROCESSOR)


def test_a_hardware_stop_with_its_record_is_one_error(read: ReadEvents) -> None:
    text = "0x00000124 (0x0, 0xffff8d0f3b2f8028, 0x00000000be000000, 0x0000000000800400)"
    # valid, uncorrected, enabled, processor context corrupt
    data = (("MCABank", "5"), ("MciStat", "0xbe00000000800400"), ("ApicId", "2"))
    fatal = Event(W + "WHEA-Logger", 18, NOON + 30, data, 2)
    found = read([sudden(NOON, BugcheckCode="292"), Event("BugCheck", 1001, NOON + 20, (("param1", text),), 2), fatal])
    (finding,) = found.log.findings
    assert finding.kind is K.UNCORRECTED_CHECK
    assert not finding.title.startswith("Stop"), "the record has the bank as well"


def test_a_storm_is_counted_and_loses_nothing(read: ReadEvents) -> None:
    midnight = NOON - 12 * 3600.0
    events = [Event("disk", 7, midnight + number * 10.0, (DR0,)) for number in range(3000)]
    events += [Event("disk", 7, midnight + 2 * 86400.0, (r"\Device\Harddisk1\DR1",))]
    found = read(events)
    assert [(each.place, each.count) for each in found.log.findings] == [("drive 0", 3000), ("drive 1", 1)]
    assert found.log.count == 3001
    assert found.left_out == 0


def test_more_kinds_of_errors_than_are_kept_are_reported_as_left_out(read: ReadEvents) -> None:
    found = read([Event("Display", 4101, NOON + day * 86400.0, (f"driver{day}",)) for day in range(520)])
    assert (len(found.log.findings), found.left_out) == (500, 20)
    assert found.log.findings[0].at == NOON + 20 * 86400.0, "the newest are kept"


def test_a_year_that_cannot_be_is_damage(read: ReadEvents) -> None:
    found = read([Event(W + "Kernel-General", 12, 7_300_000_000.0), Event("disk", 7, NOON, (DR0,))])
    assert (found.log.damaged, len(found.log.findings)) == (1, 1)
    assert "plausible time" in found.damaged[0]


def test_registers_by_name_are_a_machine_check(read: ReadEvents) -> None:
    # valid, enabled, corrected; 0151H: instruction fetch, level 1 cache
    data = (("MCABank", "1"), ("MciStat", "0x9000004000010151"), ("ApicId", "6"), ("ErrorSource", "1"))
    (finding,) = read([Event(W + "WHEA-Logger", 19, NOON, data, 3)]).log.findings
    assert finding.kind is K.CORRECTED_CHECK
    assert finding.part is P.PROCESSOR


def memory_record() -> bytes:
    """A single-bit ECC error of card 0, module 2 (UEFI Specification, appendix N, N.2.1, N.2.2 and N.2.5)."""
    section = bytearray(80)
    struct.pack_into("<Q", section, 0, 1 << 1 | 1 << 4 | 1 << 5 | 1 << 14)  # address, card, module, type
    struct.pack_into("<Q", section, 16, 0x1234_5000)
    struct.pack_into("<HH", section, 34, 0, 2)
    section[72] = 2  # single-bit ECC
    header = bytearray(128)
    struct.pack_into("<4sHIHIII", header, 0, b"CPER", 0x0210, 0xFFFFFFFF, 1, 2, 0, 128 + 72 + 80)
    descriptor = bytearray(72)
    struct.pack_into("<IIH", descriptor, 0, 200, 80, 0x0300)
    descriptor[16:32] = uuid.UUID("a5bc1114-6f64-4ede-b863-3e83ed7c83b1").bytes_le
    struct.pack_into("<I", descriptor, 48, 2)  # corrected
    return bytes(header + descriptor + section)


def test_a_hardware_record_in_an_event_is_decoded(read: ReadEvents) -> None:
    data = (("Length", "280"), ("RawData", memory_record().hex().upper()))
    (finding,) = read([Event(W + "WHEA-Logger", 47, NOON, data, 3)]).log.findings
    assert (finding.kind, finding.part, finding.address) == (K.MEMORY_CORRECTED, P.MEMORY, 0x12345000)
    assert "module 2" in finding.place
    assert finding.at == NOON


def test_a_record_event_without_a_record_is_a_note(read: ReadEvents) -> None:
    found = read([Event(W + "WHEA-Logger", 17, NOON, (("RawData", "zz"),))])
    assert found.log.findings == ()
    assert found.log.notes[0].count == 1


def test_hours_of_use_are_counted_by_day_without_sleep_and_to_the_last_event_before_a_sudden_end(
    read: ReadEvents,
) -> None:
    day = NOON - 12 * 3600.0  # midnight
    events = [
        Event(W + "Kernel-General", 12, day + 8 * 3600),
        Event("EventLog", 6005, day + 8 * 3600 + 4),
        Event(KERNEL_POWER, 42, day + 10 * 3600),  # asleep from 10 to 13
        Event(W + "Power-Troubleshooter", 1, day + 13 * 3600),
        Event("DCOM", 10016, day + 14 * 3600),  # the last sign before the sudden end
        Event(W + "Kernel-General", 12, day + 20 * 3600),
        sudden(day + 20 * 3600 + 5),
        Event("EventLog", 6006, day + 26 * 3600),  # 2 o'clock of the next day
    ]
    assert [(each.day, each.hours) for each in read(events).use] == [("2026-03-03", 7.0), ("2026-03-04", 2.0)]


def test_a_time_that_cannot_be_is_no_use(read: ReadEvents) -> None:
    events = [Event(W + "Kernel-General", 12, NOON - 10 * 365 * 86400.0), Event("EventLog", 6006, NOON)]
    assert read(events).use == ()


def test_a_damaged_record_is_counted_and_the_rest_is_read(read: ReadEvents, tables: object) -> None:
    import io

    from thresher.decoding.recognise import load_tables
    from thresher.simulator.event_log_writer import write_log
    from thresher.system_logs.event_log import read_event_log
    from thresher.system_logs.meanings import load_meanings

    content = bytearray(write_log([Event("disk", 7, NOON + number, (DR0,)) for number in range(5)]))
    second = content.index(b"**\x00\x00", 4096 + 512 + 4)
    content[second + 24 : second + 60] = b"\xff" * 36
    found = read_event_log(io.BytesIO(bytes(content)), "System.evtx", load_tables(), load_meanings())
    assert found.log.damaged >= 1
    assert found.damaged
    assert found.log.count == 4, "all but the damaged one"
