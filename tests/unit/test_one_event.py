"""One error of the hardware counts once, on the right part, however many lines and sources report it."""

from collections.abc import Callable
from pathlib import Path

import pytest

from thresher.events.drive_lines import drive_names, whole_drive
from thresher.events.findings import KernelDecoder, PlaceNames, load_event_knowledge, slot_names
from thresher.events.kernel_log import KernelRecord, parse_kmsg
from thresher.events.trace_lines import parse_trace_line
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.findings import Finding
from thresher.model.parts import Inventory, LogicalCpu, Part, PartKind
from thresher.model.vendors import Vendor

KNOWLEDGE = load_event_knowledge()
WriteTree = Callable[[dict[str, str | bytes]], Path]

FIRMWARE_FIRST = """\
mce: [Hardware Error]: Machine check events logged
mce: [Hardware Error]: CPU 3: Machine Check: 0 Bank 255: bc0000000000009f
mce: [Hardware Error]: TSC 0 ADDR 1f3a4b000
mce: [Hardware Error]: PROCESSOR 0:50654 TIME 1773752833 SOCKET 1 APIC 20
{3}[Hardware Error]: Hardware error from APEI Generic Hardware Error Source: 2
{3}[Hardware Error]: event severity: recoverable
{3}[Hardware Error]:  Error 0, type: recoverable
{3}[Hardware Error]:   section_type: memory error
{3}[Hardware Error]:   physical_address: 0x00000001f3a4b000
{3}[Hardware Error]:   node:1 card:2 module:0 rank:1 bank:9 device:4 row:311 column:88
{3}[Hardware Error]:   error_type: 3, multi-bit ECC
{3}[Hardware Error]:   DIMM location: NODE 1 CPU1_DIMM_C1
EDAC MC1: 1 UE multi-bit ECC on CPU1_DIMM_C1 (node:1 card:2 page:0x1f3a4b offset:0x0 grain:4096)
Memory failure: 0x1f3a4b: recovery action for dirty LRU page: Recovered
MCE: Killing brinecalc:911 due to hardware memory corruption fault at 7f20c0de1000
"""


def decode(text: str, places: PlaceNames | None = None, inventory: Inventory | None = None) -> tuple[Finding, ...]:
    records = [KernelRecord(number, 100.0 + number / 1000, 4, line) for number, line in enumerate(text.splitlines())]
    return KernelDecoder(inventory, Vendor.INTEL, KNOWLEDGE, places=places).decode(records, last=True).findings


def test_a_memory_error_that_firmware_reports_first_is_one_event_of_memory() -> None:
    (finding,) = decode(FIRMWARE_FIRST)
    assert (finding.part, finding.code, finding.count) == (PartKind.MEMORY, "M-320", 1)
    assert finding.address == 0x1F3A4B000
    assert finding.core is None


def test_two_such_errors_on_two_pages_are_two_events() -> None:
    second = FIRMWARE_FIRST.replace("1f3a4b", "2c0017")
    findings = decode(FIRMWARE_FIRST + second)
    assert [finding.address for finding in findings] == [0x1F3A4B000, 0x2C0017000]


def test_the_same_page_failing_again_is_counted_again() -> None:
    again = "EDAC MC1: 4 CE single-bit ECC on CPU1_DIMM_C1 (node:1 card:2 page:0x77a0 offset:0x40 grain:64)\n"
    decoder = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE)
    counts: list[int] = []
    for at in (10.0, 20.0):
        counts += [f.count for f in decoder.decode([KernelRecord(1, at, 4, again.strip())]).findings]
    assert counts == [4, 4]


def test_log_trace_and_counted_lines_of_corrected_errors_add_up_once() -> None:
    decoder = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE)
    line = "EDAC MC0: 1 CE memory read error on DIMM_B1 (channel:1 slot:0 page:0x4411 offset:0x80 grain:32)"
    (first,) = decoder.decode([KernelRecord(1, 5.0, 4, line)]).findings
    traced = parse_trace_line(
        b" kworker/0:1-31 [000] d..1. 5.100000: mc_event: 1 Corrected error: memory read error on DIMM_B1 "
        b"(mc:0 location:1:0:-1 address:0x04411080 grain:5 syndrome:0x00000000)"
    )
    assert traced.finding is not None
    assert decoder.of_trace(traced) is None
    assert first.count == 1
    more = decoder.of_trace(traced)
    assert more is not None, "a second trace event is a second error"


def test_the_controller_and_the_core_that_met_its_poison_are_one_error() -> None:
    text = (
        "mce: [Hardware Error]: CPU 0: Machine Check: 0 Bank 7: ac00000000010091\n"
        "mce: [Hardware Error]: TSC 0 ADDR 88123040 MISC 86\n"
        "mce: [Hardware Error]: PROCESSOR 0:50654 TIME 1773752833 SOCKET 0 APIC 0\n"
        "mce: [Hardware Error]: CPU 6: Machine Check: 5 Bank 1: bd80000000100134\n"
        "mce: [Hardware Error]: TSC 0 ADDR 88123000 MISC 86\n"
        "mce: [Hardware Error]: PROCESSOR 0:50654 TIME 1773752833 SOCKET 0 APIC c\n"
        "Memory failure: 0x88123: recovery action for dirty LRU page: Recovered\n"
    )
    (finding,) = decode(text)
    assert finding.part is PartKind.MEMORY
    (victim,) = decode(text.split("APIC 0\n")[1].split("Memory failure")[0])
    assert (victim.code, victim.part, victim.core) == ("M-325", PartKind.MEMORY, None)


def test_a_section_of_firmware_ends_where_other_lines_begin() -> None:
    text = (
        "[Hardware Error]: event severity: fatal\n"
        "[Hardware Error]:  Error 0, type: fatal\n"
        "[Hardware Error]:   section_type: PCIe error\n"
        "[Hardware Error]:   port_type: 4, root port\n"
        "[Hardware Error]:   device_id: 0000:00:1b.0\n"
        "[Hardware Error]: Corrected error, no action required.\n"
        "[Hardware Error]: CPU:2 (17:71:0) MC17_STATUS[-|CE|MiscV|AddrV|-|-|SyndV|CECC|-|-|-]: 0x9c2040000000011b\n"
        "[Hardware Error]: cache level: L3/GEN, mem/io: GEN, mem-tx: RD, part-proc: RES (no timeout)\n"
        "device_id: 0000:99:99.9\n"
    )
    link, _check = decode(text)
    assert (link.code, link.place) == ("S-520", "0000:00:1b.0")
    assert "MC17" not in link.raw
    assert len(link.raw.splitlines()) == 3


SECTOR = """\
ata3.00: exception Emask 0x0 SAct 0x0 SErr 0x0 action 0x0
ata3.00: error: { UNC }
sd 2:0:0:0: [sdc] tag#11 Sense Key : Medium Error [current]
critical medium error, dev sdc, sector 8112344 op 0x0:(READ) flags 0x80700 phys_seg 1 prio class 0
Buffer I/O error on dev sdc2, logical block 1013784, async page read
Buffer I/O error on dev dm-3, logical block 4401, async page read
"""
DRIVE_TREE: dict[str, str | bytes] = {
    "sys/devices/pci0000:00/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0/block/sdc/size": "1\n",
    "sys/devices/pci0000:00/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0/block/sdc/sdc2/partition": "2\n",
    "sys/devices/pci0000:00/0000:01:00.0/nvme/nvme0/nvme0n1/size": "1\n",
    "sys/devices/virtual/block/dm-3/slaves/sdc2": "",
    "sys/devices/virtual/block/md4/slaves/sdc2": "",
    "sys/devices/virtual/block/md4/slaves/nvme0n1": "",
}


def drive_tree(write_tree: WriteTree) -> TreeSystem:
    root = write_tree(DRIVE_TREE)
    block = root / "sys/block"
    block.mkdir()
    base = "../devices/pci0000:00"
    (block / "sdc").symlink_to(f"{base}/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0/block/sdc")
    (block / "nvme0n1").symlink_to(f"{base}/0000:01:00.0/nvme/nvme0/nvme0n1")
    for volume in ("dm-3", "md4"):
        (block / volume).symlink_to(f"../devices/virtual/block/{volume}")
    return TreeSystem(root)


def test_every_name_of_a_drive_leads_to_it(write_tree: WriteTree) -> None:
    names = drive_names(drive_tree(write_tree))
    for name in ("ata3", "ata3.00", "2:0:0:0", "sdc", "sdc2", "dm-3"):
        assert names[name] == "sdc", name
    assert names["nvme0"] == names["nvme0n1"] == "nvme0n1"
    assert names.get("md4", "md4") == "md4", "an array over two drives is neither"


def test_one_bad_sector_is_one_event_on_the_drive(write_tree: WriteTree) -> None:
    names = PlaceNames(drives=drive_names(drive_tree(write_tree)))
    (finding,) = decode(SECTOR, names)
    assert (finding.place, finding.code, finding.count) == ("sdc", "D-310", 1)
    assert "sdc (ata3.00)" in finding.title
    other = SECTOR.replace("8112344", "99000000")
    assert len(decode(SECTOR + other, names)) == 2, "another sector is another event"
    assert len(decode(SECTOR + SECTOR, names)) == 1, "the same sector tried again is not"


def test_without_the_machine_the_controller_and_its_namespace_are_one_drive() -> None:
    text = "nvme nvme1: I/O 12 QID 3 timeout, aborting\ntimeout error, dev nvme1n1, sector 91 op 0x0:(READ) flags 0x0\n"
    (finding,) = decode(text)
    assert finding.place == "nvme1n1"
    assert [whole_drive(name) for name in ("sdab12", "nvme0n1p3", "mmcblk0p1", "sr0")] == [
        "sdab",
        "nvme0n1",
        "mmcblk0",
        "sr0",
    ]


def test_what_a_program_writes_into_the_kernel_log_is_not_the_kernel_s() -> None:
    line = "EDAC MC0: 9 UE memory read error on DIMM_A1 (channel:0 slot:0 page:0x1 offset:0x0 grain:32)"
    decoder = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE)
    for priority, count in ((4, 1), (12, 0), (30, 0)):  # warning of the kernel, of a user program, of a daemon
        record = parse_kmsg(f"{priority},{priority},1000,-;{line}".encode())
        assert isinstance(record, KernelRecord)
        assert len(decoder.decode([record], last=True).findings) == count


def test_repeated_resets_of_one_usb_device_are_evidence_and_single_ones_are_not() -> None:
    line = "usb 2-4: reset SuperSpeed USB device number 3 using xhci_hcd"
    decoder = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE)
    found = [
        [finding.code for finding in decoder.decode([KernelRecord(1, at, 6, line)]).findings]
        for at in (10.0, 900.0, 1000.0, 1010.0)
    ]
    assert found == [[], [], [], ["S-613"]]


def test_the_details_of_a_link_error_belong_to_it() -> None:
    text = (
        "pcieport 0000:00:1c.5: AER: Multiple Corrected error received: 0000:03:00.0\n"
        "rtlxx 0000:03:00.0: PCIe Bus Error: severity=Corrected, type=Data Link Layer, (Receiver ID)\n"
        "rtlxx 0000:03:00.0:   device [1234:5678] error status/mask=000000c0/00002000\n"
        "rtlxx 0000:03:00.0:    [ 6] BadTLP                \n"
        "rtlxx 0000:03:00.0:    [ 7] BadDLLP               (First)\n"
        "usb 1-1: new high-speed USB device number 2\n"
    )
    (finding,) = decode(text)
    assert (finding.code, finding.place) == ("S-510", "0000:03:00.0")
    assert "BadTLP" in finding.detail
    assert "BadDLLP" in finding.detail
    assert finding.raw.count("\n") == 2


def test_a_card_is_one_place_however_a_driver_names_it() -> None:
    with_function = decode("amdgpu 0000:82:00.0: amdgpu: ring gfx_0.0.0 timeout, signaled seq=1, emitted seq=3")
    without = decode("NVRM: Xid (PCI:0000:82:00): 79, pid=1, GPU has fallen off the bus.")
    assert {finding.place for finding in (*with_function, *without)} <= {"0000:82:00.0"}
    assert without[0].place == "0000:82:00.0"


@pytest.mark.parametrize(("packages", "place"), [(2, "memory of socket 0"), (1, "memory")])
def test_socket_0_is_a_place_where_there_are_two(packages: int, place: str) -> None:
    cpus = tuple(LogicalCpu(cpu, cpu, cpu % packages) for cpu in range(4))
    inventory = Inventory("rack", False, (), cpus)
    text = (
        "mce: [Hardware Error]: CPU 0: Machine Check: 0 Bank 255: 9c0000000000009f\n"
        "mce: [Hardware Error]: TSC 0 ADDR 1000\n"
        "mce: [Hardware Error]: PROCESSOR 0:50654 TIME 1773752833 SOCKET 0 APIC 0\n"
    )
    records = [KernelRecord(n, 1.0, 4, line) for n, line in enumerate(text.splitlines())]
    decoder = KernelDecoder(inventory, Vendor.INTEL, KNOWLEDGE)
    (finding,) = decoder.decode(records, last=True).findings
    assert finding.place == place


def test_a_slot_has_the_board_s_name_whatever_the_driver_calls_it() -> None:
    part = Part("M-1", PartKind.MEMORY, "Mussel Bank", place="DIMM A1")
    inventory = Inventory("bench", False, (part,), ())
    places = PlaceNames(slots=slot_names(inventory))
    line = "EDAC MC0: 1 CE memory read error on DIMM_A1 (channel:0 slot:0 page:0x5 offset:0x0 grain:32)"
    (finding,) = decode(line, places)
    assert finding.place == "DIMM A1"


def test_the_inventory_of_a_tree_names_its_drives(write_tree: WriteTree) -> None:
    found = read_inventory(drive_tree(write_tree))
    assert {part.place for part in found.parts_of(PartKind.DRIVE)} <= {"sdc", "nvme0n1"}


def test_a_processor_that_was_only_told_of_another_s_error_is_not_blamed() -> None:
    text = (
        "mce: [Hardware Error]: CPU 1: Machine Check: 5 Bank 1: a000000000000000\n"
        "mce: [Hardware Error]: PROCESSOR 0:506e3 TIME 1773752833 SOCKET 0 APIC 1\n"
    )
    assert decode(text) == ()
    assert len(decode(text.replace("a000000000000000", "a000000000000005"))) == 1
