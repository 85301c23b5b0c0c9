"""The lines in which kernels report machine checks, and the findings that they become."""

import pytest

from thresher.events.findings import KernelDecoder
from thresher.events.kernel_log import KernelRecord
from thresher.events.log_forms import parse_log_text
from thresher.events.machine_checks.lines import MachineCheckAssembler
from thresher.events.machine_checks.registers import vendor_of
from thresher.model.findings import FindingKind, Severity
from thresher.model.parts import Inventory, LogicalCpu, PartKind
from thresher.model.vendors import Vendor

INTEL_LOG = """\
[  100.000001] mce: [Hardware Error]: Machine check events logged
[  100.000002] mce: [Hardware Error]: CPU 13: Machine Check: 0 Bank 1: 9c00004000000135
[  100.000003] mce: [Hardware Error]: TSC 77fca85b000 ADDR a567580 MISC 86
[  100.000004] mce: [Hardware Error]: PROCESSOR 0:b0671 TIME 1773752833 SOCKET 0 APIC a microcode 12b
"""

AMD_LOG = """\
[   50.1] [Hardware Error]: Corrected error, no action required.
[   50.1] [Hardware Error]: CPU:5 (17:71:0) MC1_STATUS[-|CE|MiscV|AddrV|-|-|SyndV|-|-|-]: 0x9c20400000060165
[   50.1] [Hardware Error]: Error Addr: 0x00000001dbf28340
[   50.1] [Hardware Error]: IPID: 0x000100b000000000, Syndrome: 0x000000001a030506
"""

INVENTORY = Inventory("bench", True, (), tuple(LogicalCpu(cpu, cpu % 8, 0) for cpu in range(16)))


def test_the_lines_of_one_check_are_put_together() -> None:
    (check,) = MachineCheckAssembler().feed(parse_log_text(INTEL_LOG))
    assert (check.cpu, check.bank, check.status) == (13, 1, 0x9C00_0040_0000_0135)
    assert (check.address, check.misc, check.apic) == (0xA567580, 0x86, 0xA)
    assert check.vendor is Vendor.INTEL
    assert (check.cpuid, check.microcode, check.unix_time) == (0xB0671, 0x12B, 1773752833)
    assert check.at == pytest.approx(100.000002)
    assert len(check.raw) == 3


def test_lines_of_other_drivers_between_do_no_harm() -> None:
    lines = INTEL_LOG.splitlines()
    lines.insert(2, "[  100.0000025] usb 1-2: new high-speed USB device number 7 using xhci_hcd")
    (check,) = MachineCheckAssembler().feed(parse_log_text("\n".join(lines)))
    assert check.address == 0xA567580


def test_a_check_whose_lines_stop_coming_is_given_out_after_a_quiet_batch() -> None:
    decoder = KernelDecoder(INVENTORY, Vendor.INTEL)
    half = list(parse_log_text("\n".join(INTEL_LOG.splitlines()[:3])))
    assert decoder.decode(half).findings == ()
    (finding,) = decoder.decode([]).findings
    assert finding.kind is FindingKind.CORRECTED_CHECK


def test_two_checks_in_a_row_are_two() -> None:
    checks = MachineCheckAssembler().feed(parse_log_text(INTEL_LOG + INTEL_LOG))
    assert len(checks) == 2


def test_the_lines_of_the_decoding_driver_are_read() -> None:
    assembler = MachineCheckAssembler()
    checks = assembler.feed(parse_log_text(AMD_LOG)) + assembler.flush()
    assert [(c.cpu, c.bank, c.status, c.address) for c in checks] == [(5, 1, 0x9C20_4000_0006_0165, 0x1DBF28340)]
    assert checks[0].vendor is Vendor.AMD


def test_a_finding_names_the_core_and_not_the_thread() -> None:
    (finding,) = KernelDecoder(INVENTORY, Vendor.UNKNOWN).decode(parse_log_text(INTEL_LOG)).findings
    assert (finding.core, finding.place, finding.code) == (5, "core 5", "P-310")
    assert finding.severity is Severity.WARNING
    assert "address 0xa567580" in finding.detail
    assert finding.part is PartKind.PROCESSOR
    assert "Bank 1" in finding.raw


def test_a_memory_controller_check_points_at_memory() -> None:
    text = "mce: [Hardware Error]: CPU 0: Machine Check: 0 Bank 7: 8c00004000010091"
    (finding,) = KernelDecoder(INVENTORY, Vendor.INTEL).decode(parse_log_text(text), last=True).findings
    assert (finding.code, finding.part) == ("M-310", PartKind.MEMORY)


@pytest.mark.parametrize(
    ("line", "code", "kind"),
    [
        (
            "EDAC MC0: 3 CE memory read error on CPU_SrcID#0_MC#0_Chan#1_DIMM#0 (channel:1 slot:0)",
            "M-310",
            FindingKind.MEMORY_CORRECTED,
        ),
        ("EDAC MC1: 1 UE memory read error on DIMM_B2", "M-320", FindingKind.MEMORY_UNCORRECTED),
        (
            "CPU4: Package temperature is above threshold, cpu clock is throttled (total events = 12)",
            "C-210",
            FindingKind.HEAT_THROTTLE,
        ),
        (
            "mce: CPU4: Core temperature above threshold, cpu clock throttled (total events = 1)",
            "C-210",
            FindingKind.HEAT_THROTTLE,
        ),
    ],
)
def test_single_lines_that_matter(line: str, code: str, kind: FindingKind) -> None:
    (finding,) = KernelDecoder(INVENTORY, Vendor.INTEL).decode([KernelRecord(1, 2.0, 4, line)]).findings
    assert (finding.code, finding.kind, finding.at) == (code, kind, 2.0)


def test_the_count_of_an_edac_line_is_kept() -> None:
    record = KernelRecord(1, 2.0, 4, "EDAC MC0: 3 CE memory read error on DIMM_A1")
    (finding,) = KernelDecoder(None, Vendor.INTEL).decode([record]).findings
    assert finding.count == 3


@pytest.mark.parametrize(
    ("text", "vendor"),
    [
        ("vendor_id\t: GenuineIntel", Vendor.INTEL),
        ("vendor_id\t: AuthenticAMD", Vendor.AMD),
        ("vendor_id : TernHarbour8", Vendor.UNKNOWN),
    ],
)
def test_the_layout_follows_the_vendor(text: str, vendor: Vendor) -> None:
    assert vendor_of(text) is vendor
