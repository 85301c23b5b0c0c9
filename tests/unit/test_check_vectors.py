"""Register values worked out by hand from the published manuals, each with the section that it comes from.

SDM is the Intel 64 and IA-32 Architectures Software Developer's Manual, volume 3B; APM the AMD64 Architecture
Programmer's Manual, volume 2; PPR the Processor Programming References of families 17h and 19h; BKDG the BIOS and
Kernel Developer's Guides of families 10h to 15h. Values are put together from their bits in the comments.
"""

from dataclasses import dataclass

import pytest

from thresher.events.machine_checks.decode import decode_check, load_check_knowledge
from thresher.events.machine_checks.lines import signature
from thresher.events.machine_checks.registers import CheckSeverity, DecodedCheck, MachineCheck, Unit, processor_family
from thresher.model.parts import PartKind
from thresher.model.vendors import Vendor

KNOWLEDGE = load_check_knowledge()
SDM, AMD, ANY = Vendor.INTEL, Vendor.AMD, Vendor.UNKNOWN
CE, UC, DEF = CheckSeverity.CORRECTED, CheckSeverity.FATAL, CheckSeverity.DEFERRED
UCNA, SRAO, SRAR = CheckSeverity.NO_ACTION, CheckSeverity.ACTION_OPTIONAL, CheckSeverity.ACTION_REQUIRED

HASWELL = signature(6, 0x3C, 3)
NEHALEM = signature(6, 0x1A, 5)
SANDY_SERVER = signature(6, 0x2D, 7)
SMALL = signature(6, 0x37, 8)
MIXED = signature(6, 0xB7, 1)
ZEN = signature(0x17, 0x71, 0)
BULLDOZER = signature(0x15, 0x02, 0)
MANUAL_ADDRESS = 0x12345000


def ipid(hardware: int, kind: int, instance: int = 0) -> int:
    """PPR, MCA_IPID: type in bits 63:48, hardware in 43:32, instance in 31:0."""
    return kind << 48 | hardware << 32 | instance


@dataclass(frozen=True)
class Vector:
    section: str
    vendor: Vendor
    status: int
    severity: CheckSeverity
    unit: Unit
    words: str
    bank: int | None = None
    cpuid: int | None = None
    misc: int | None = None
    ipid: int | None = None
    synd: int | None = None
    cap: int | None = None
    address: int = MANUAL_ADDRESS

    def decode(self) -> DecodedCheck:
        return decode_check(
            MachineCheck(
                None,
                self.bank,
                self.status,
                None,
                vendor=self.vendor,
                cpuid=self.cpuid,
                misc=self.misc,
                ipid=self.ipid,
                syndrome=self.synd,
                mcg_cap=self.cap,
                address=self.address,
            ),
            KNOWLEDGE,
        )


V = Vector
# 0x8000... is VAL (63), 0x9... adds EN (60), 0xB... UC (61) with EN, 0xD... OVER (62) with EN; then MISCV 0x08,
# ADDRV 0x04, PCC 0x02 and S 0x01 in the second hex digit pair, AR 0x80 in the third
VECTORS = (
    # SDM, "Simple Error Codes"
    V("SDM simple 0001", SDM, 0x8000000000000001, CE, Unit.UNKNOWN, "unclassified"),
    V("SDM simple 0002", SDM, 0x9000004000000002, CE, Unit.CORE, "microcode ROM"),
    V("SDM simple 0003", SDM, 0xB200000000000003, UC, Unit.OUTSIDE, "from outside"),
    V("SDM simple 0004", SDM, 0xB200000000000004, UC, Unit.CORE, "functional redundancy"),
    V("SDM simple 0005", SDM, 0x9000004000000005, CE, Unit.CORE, "internal parity", bank=0, cpuid=HASWELL),
    V("SDM simple 0006", SDM, 0xB200000000000006, UC, Unit.CORE, "system management code"),
    V("SDM simple 0400", SDM, 0xBE00000000800400, UC, Unit.CORE, "internal timer", bank=3),
    V("SDM simple 0E0B", SDM, 0xBA00000000000E0B, UC, Unit.PCIE, "input/output error"),
    V("SDM internal unclassified", SDM, 0x9000004000000401, CE, Unit.CORE, "internal, unclassified"),
    # SDM, "Compound Error Codes"
    V("SDM cache hierarchy", SDM, 0x900000400000000E, CE, Unit.SHARED_CACHE, "cache hierarchy, level 2"),
    V("SDM cache hierarchy generic", SDM, 0x900000400000000F, CE, Unit.SHARED_CACHE, "generic level"),
    V("SDM TLB", SDM, 0x9400004000000010, CE, Unit.CORE_CACHE, "instruction TLB, level 0"),
    V("SDM TLB data", SDM, 0x9400004000000015, CE, Unit.CORE_CACHE, "data TLB, level 1", bank=2, cpuid=NEHALEM),
    V("SDM TLB generic", SDM, 0x9400004000000019, CE, Unit.CORE_CACHE, "generic TLB, level 1"),
    V("SDM memory generic", SDM, 0x9C00004000010080, CE, Unit.MEMORY, "generic, channel 0"),
    V("SDM memory read", SDM, 0x9C00004000010091, CE, Unit.MEMORY, "memory read, channel 1"),
    V("SDM memory write", SDM, 0x9C000040000100A2, CE, Unit.MEMORY, "memory write, channel 2"),
    V("SDM memory address and command", SDM, 0x9C000040000100B3, CE, Unit.MEMORY_CHANNEL, "address or command"),
    V("SDM memory scrub", SDM, 0x9C000040000100C0, CE, Unit.MEMORY, "scrubbing, channel 0"),
    V("SDM memory channel unknown", SDM, 0x9C0000400001009F, CE, Unit.MEMORY, "channel unknown"),
    V("SDM extended memory", SDM, 0x9C00004000000290, CE, Unit.MEMORY, "memory used as cache, memory read"),
    V("SDM cache data read", SDM, 0x9C00004000000135, CE, Unit.CORE_CACHE, "data cache, level 1, data read", bank=1),
    V("SDM cache data write", SDM, 0x9C00004000000144, CE, Unit.CORE_CACHE, "data cache, level 0, data write"),
    V("SDM instruction fetch", SDM, 0x9C00004000000151, CE, Unit.CORE_CACHE, "instruction cache, level 1, instruction"),
    V("SDM prefetch", SDM, 0x9C00004000000169, CE, Unit.CORE_CACHE, "generic cache, level 1, prefetch"),
    V("SDM eviction", SDM, 0x9C0000400000017A, CE, Unit.SHARED_CACHE, "generic cache, level 2, eviction"),
    V("SDM snoop", SDM, 0x9C0000400000018A, CE, Unit.SHARED_CACHE, "snoop"),
    V("SDM bus source", SDM, 0xB200000000000800, UC, Unit.INTERCONNECT, "originated, memory, generic error"),
    V("SDM bus observed", SDM, 0xB200000000000C0F, UC, Unit.INTERCONNECT, "observed as third party, other"),
    V("SDM bus timeout", SDM, 0xB200000000000F0F, UC, Unit.INTERCONNECT, "generic, timed out, other"),
    V("SDM bus responded", SDM, 0xB200000000000A13, UC, Unit.INTERCONNECT, "responded, memory, generic read"),
    V("SDM filter bit", SDM, 0x9C00004000001135, CE, Unit.CORE_CACHE, "data cache, level 1, data read"),
    V("SDM no class", SDM, 0x8000000000002000, CE, Unit.UNKNOWN, "no architectural class"),
    # SDM, "UCR Error Classification": UC=1 PCC=0 and S, AR
    V("SDM UCNA", SDM, 0xBC000000000100C1, UCNA, Unit.MEMORY, "scrubbing, channel 1"),
    V("SDM SRAO memory scrub", SDM, 0xBD000000000000C0, SRAO, Unit.MEMORY, "scrubbing", misc=0x8C),
    V("SDM SRAO L3 writeback", SDM, 0xBD0000000000017A, SRAO, Unit.POISONED, "eviction", misc=0x86),
    V(
        "SDM SRAR data load",
        SDM,
        0xBD80000000000134,
        SRAR,
        Unit.POISONED,
        "data cache, level 0, data read",
        misc=0x86,
    ),
    V("SDM SRAR fetch", SDM, 0xBD80000000000150, SRAR, Unit.POISONED, "instruction fetch", misc=0x86),
    V("SDM PCC", SDM, 0xBF80000000000134, UC, Unit.CORE_CACHE, "data read"),
    V("SDM no recovery", SDM, 0xBD80000000000134, UC, Unit.CORE_CACHE, "data read", cap=0x0000000000000C09),
    # SDM, "Interpreting Machine Check Error Codes": banks and model-specific codes by family
    V("SDM bank 0 of 06_1AH", SDM, 0x9000004000000005, CE, Unit.CORE, "internal parity", bank=0, cpuid=NEHALEM),
    V("SDM bank 4 of 06_3CH", SDM, 0x9000004000000402, CE, Unit.POWER_CONTROL, "unclassified", bank=4, cpuid=HASWELL),
    V("SDM 06_2DH PCU 7Ah", SDM, 0xB20000007A000402, UC, Unit.POWER_CONTROL, "fail state", bank=4, cpuid=SANDY_SERVER),
    V("SDM 06_2DH PCU 81h", SDM, 0xB200000081000402, UC, Unit.POWER_CONTROL, "too hot", bank=4, cpuid=SANDY_SERVER),
    V("SDM 06_2DH firmware 2", SDM, 0xB200000000020402, UC, Unit.POWER_CONTROL, "parity", bank=4, cpuid=SANDY_SERVER),
    V("SDM 06_2DH IMC 008", SDM, 0x8C00004000080090, CE, Unit.MEMORY, "patrol scrubbing", bank=8, cpuid=SANDY_SERVER),
    V("SDM 06_2DH IMC 010", SDM, 0xAC00000000100090, UCNA, Unit.MEMORY, "not corrected", bank=9, cpuid=SANDY_SERVER),
    V("SDM small core: no names", SDM, 0x9000004000000005, CE, Unit.CORE, "internal parity", bank=4, cpuid=SMALL),
    V("SDM mixed cores", SDM, 0x9C00004000000135, CE, Unit.CORE_CACHE, "data read", bank=1, cpuid=MIXED),
    # APM and PPR: scalable architecture, kind of bank by IPID, extended code in bits 21:16
    V("PPR LS 1", AMD, 0x9C20400000010135, CE, Unit.CORE_CACHE, "read by a load", ipid=ipid(0xB0, 0x10), cpuid=ZEN),
    V("PPR LS of the first", AMD, 0x9C204000000C0135, CE, Unit.CORE_CACHE, "poison used", ipid=ipid(0xB0, 0)),
    V("PPR IF 2", AMD, 0x9C20400000020151, CE, Unit.CORE, "instruction cache's tags", ipid=ipid(0xB0, 1)),
    V("PPR L2 2", AMD, 0x9C20400000020136, CE, Unit.CORE_CACHE, "data array", ipid=ipid(0xB0, 2)),
    V("PPR DE 1", AMD, 0x9820000000010150, CE, Unit.CORE, "micro-op cache's data", ipid=ipid(0xB0, 3)),
    V("PPR EX 0", AMD, 0xBEA0000000000108, UC, Unit.CORE, "watchdog ran out", ipid=ipid(0xB0, 5), cpuid=ZEN),
    V("PPR FP 0", AMD, 0xBAA0000000000108, UC, Unit.CORE, "register file", ipid=ipid(0xB0, 6)),
    V("PPR L3 4", AMD, 0x9C2040000004017B, CE, Unit.SHARED_CACHE, "ECC in the data", ipid=ipid(0xB0, 7)),
    V("PPR CS 6", AMD, 0xBEA0000000060E0B, UC, Unit.INTERCONNECT, "parity of read data", ipid=ipid(0x2E, 0)),
    V("PPR PIE 2", AMD, 0xBAA0000000020E0B, UC, Unit.INTERCONNECT, "between dies", ipid=ipid(0x2E, 1)),
    V("PPR UMC 0", AMD, 0x9C2041000000011B, CE, Unit.MEMORY, "ECC error", ipid=ipid(0x96, 0, 0x150F00), synd=0x1),
    V("PPR UMC 4", AMD, 0xBAA0000000040E0B, UC, Unit.MEMORY_CHANNEL, "address or command", ipid=ipid(0x96, 0)),
    V("PPR UMC 5", AMD, 0xBAA0000000050E0B, UC, Unit.MEMORY_CHANNEL, "written data", ipid=ipid(0x96, 1)),
    V("PPR UMC 9", AMD, 0x9820000000090E0B, CE, Unit.MEMORY_CONTROLLER, "read buffer", ipid=ipid(0x96, 1)),
    V("PPR SMU 0", AMD, 0x9820000000000E0B, CE, Unit.POWER_CONTROL, "ECC or parity", ipid=ipid(0x01, 0)),
    V("PPR PSP 0", AMD, 0x9820000000000E0B, CE, Unit.SECURITY, "ECC or parity", ipid=ipid(0xFF, 0)),
    V("PPR NBIO 1", AMD, 0xBAA0000000010E0B, UC, Unit.PCIE, "PCI Express", ipid=ipid(0x18, 0)),
    V("PPR reserved code", AMD, 0x9820000000030E0B, CE, Unit.MEMORY_CONTROLLER, "interconnect", ipid=ipid(0x96, 1)),
    V("PPR unknown bank", AMD, 0x9820000000000135, CE, Unit.CORE_CACHE, "data cache", ipid=ipid(0x123, 9)),
    V("APM deferred", AMD, 0x9C20100000000136, DEF, Unit.CORE_CACHE, "data cache", ipid=ipid(0xB0, 2)),
    # BKDG family 15h: names by bank, the northbridge's extended codes in bits 20:16
    V("BKDG bank 0", AMD, 0x9C00400000010135, CE, Unit.CORE_CACHE, "data cache", bank=0, cpuid=BULLDOZER),
    V("BKDG bank 5", AMD, 0xB200000000000F0F, UC, Unit.CORE, "timed out", bank=5, cpuid=BULLDOZER),
    V("BKDG NB 0", AMD, 0x9C00400000000A13, CE, Unit.MEMORY, "ECC error in memory", bank=4, cpuid=BULLDOZER),
    V("BKDG NB 8", AMD, 0x9C00400000080A13, CE, Unit.MEMORY, "whole chip", bank=4, cpuid=BULLDOZER),
    V("BKDG NB 7", AMD, 0xB200000000070F0F, UC, Unit.INTERCONNECT, "watchdog", bank=4, cpuid=BULLDOZER),
    V("BKDG NB 1C", AMD, 0x9C000000001C017B, CE, Unit.SHARED_CACHE, "third-level", bank=4, cpuid=BULLDOZER),
    V("BKDG NB D", AMD, 0xB2000000000D0A13, UC, Unit.MEMORY_CHANNEL, "command", bank=4, cpuid=BULLDOZER),
    # what both manuals define alike, when the vendor is not known
    V("both: corrected", ANY, 0x8000000000000135, CE, Unit.CORE_CACHE, "data cache, level 1"),
    V("both: uncorrected", ANY, 0xA000000000000151, UC, Unit.CORE_CACHE, "instruction fetch"),
)


@pytest.mark.parametrize("vector", VECTORS, ids=lambda vector: vector.section)
def test_a_register_states_what_the_manual_states(vector: Vector) -> None:
    decoded = vector.decode()
    assert (decoded.severity, decoded.unit) == (vector.severity, vector.unit)
    assert vector.words in decoded.words
    assert decoded.shares
    assert decoded.causes


def test_there_are_enough_vectors_of_both_vendors() -> None:
    assert len(VECTORS) >= 60
    assert all(sum(each.vendor is vendor for each in VECTORS) >= 25 for vendor in (SDM, AMD))
    assert len({each.section for each in VECTORS}) == len(VECTORS)


def fields_of(decoded: DecodedCheck, strip: str = "STATUS") -> dict[str, tuple[int, str]]:
    (found,) = [each for each in decoded.strips if each.name == strip]
    return {field.name: (field.value, field.meaning) for field in found.fields}


def test_corrected_errors_are_counted_where_the_processor_counts() -> None:
    # SDM, IA32_MCi_STATUS bits 52:38, valid with IA32_MCG_CAP[10]
    assert V("", SDM, 0x9C00_0100_0012_0135, CE, Unit.CORE, "").decode().corrected_count == 4
    assert V("", SDM, 0x9C00_0100_0012_0135, CE, Unit.CORE, "", cap=0x9).decode().corrected_count is None
    assert V("", SDM, 0xBE00_0100_0012_0135, UC, Unit.CORE, "").decode().corrected_count is None
    assert V("", AMD, 0x9C00_0100_0012_0135, CE, Unit.CORE, "").decode().corrected_count is None


@pytest.mark.parametrize(("state", "above"), [(0, False), (1, False), (2, True), (3, False)])
def test_the_processor_s_own_threshold_is_reported(state: int, above: bool) -> None:
    # SDM, "Threshold-Based Error Status": bits 54:53, valid with IA32_MCG_CAP[11]
    status = 0x9000_0040_0000_0135 | state << 53
    assert V("", SDM, status, CE, Unit.CORE, "", cap=0x0C09).decode().above_threshold is above
    assert V("", SDM, status, CE, Unit.CORE, "", cap=0x0409).decode().above_threshold is False


@pytest.mark.parametrize(
    ("misc", "words"),
    [
        (0x86, "physical address, exact to 64 bytes"),
        (0x8C, "physical address, exact to 4 KiB"),
        (0x46, "linear address, exact to 64 bytes"),
        (0x06, "segment offset"),
        (0x1C6, "generic"),
        (0x146, "reserved"),
    ],
)
def test_misc_reports_what_kind_of_address_it_is(misc: int, words: str) -> None:
    # SDM, "IA32_MCi_MISC MSRs": bits 8:6 mode, 5:0 lowest valid bit
    assert words in V("", SDM, 0x9C00004000000135, CE, Unit.CORE, "", misc=misc).decode().address_words


def test_memory_is_reported_by_channel_and_chip_select() -> None:
    decoded = V("", AMD, 0x9C2041000000011B, CE, Unit.MEMORY, "", ipid=ipid(0x96, 0, 0x150F00), synd=0x3).decode()
    assert (decoded.channel, decoded.chip_select) == (1, 3)
    assert decoded.shares[0].part is PartKind.MEMORY
    assert V("", SDM, 0x9C00004000010092, CE, Unit.MEMORY, "").decode().channel == 2


def test_flags_of_the_other_vendor_are_read_by_its_layout() -> None:
    # PPR, MCA_STATUS: bit 55 TCC, 53 SyndV, 46 CECC, 45 UECC, 44 Deferred, 43 Poison, 40 Scrub, 29:24 AddrLsb
    fields = fields_of(V("", AMD, 0x9C20_6900_0C00_0136, CE, Unit.CORE, "", ipid=ipid(0xB0, 2)).decode())
    assert {name for name, (value, _) in fields.items() if value == 1} >= {
        "syndrome valid",
        "corrected by ECC",
        "uncorrected by ECC",
        "poison",
        "scrub",
    }
    assert fields["lowest valid bit"] == (12, "exact to 4 KiB; ADDR holds it too")
    assert V("", AMD, 0x9C20_0800_0000_0136, CE, Unit.CORE, "", ipid=ipid(0xB0, 2)).decode().poison


def test_capabilities_and_global_status_are_taken_apart() -> None:
    # SDM, IA32_MCG_CAP: 7:0 count, 8 CTL_P, 10 CMCI_P, 11 TES_P, 24 SER_P, 27 LMCE_P; IA32_MCG_STATUS: RIPV, EIPV, MCIP
    check = MachineCheck(0, 0, 0x9000004000000005, None, mcg_cap=0x0000_0000_0F00_0C0A, mcg_status=0x5, vendor=SDM)
    decoded = decode_check(check, KNOWLEDGE)
    caps, state = fields_of(decoded, "MCG_CAP"), fields_of(decoded, "MCG_STATUS")
    assert (caps["banks"][0], caps["recovery"][0], caps["threshold status"][0]) == (10, 1, 1)
    assert (caps["control register"][0], caps["local machine checks"][0]) == (0, 1)
    assert (state["in progress"][0], state["restart possible"][0], state["instruction known"][0]) == (1, 1, 0)


def test_what_no_manual_reports_is_reported_to_be_unknown() -> None:
    unknown_bank = V("", AMD, 0x9820000000000E0B, CE, Unit.CORE, "", ipid=ipid(0x7FF, 3)).decode()
    assert unknown_bank.unit_words == ""
    assert fields_of(unknown_bank)["extended error code"][1] == "not documented for this bank"
    small = V("", SDM, 0x9000004000550402, CE, Unit.CORE, "", bank=4, cpuid=SMALL).decode()
    assert small.unit_words == ""
    assert fields_of(small)["model-specific code"] == (0x55, "not documented for this model")


def test_a_register_without_the_valid_bit_points_at_nothing() -> None:
    decoded = V("", SDM, 0x1C00004000000135, CE, Unit.CORE, "").decode()
    assert (decoded.valid, decoded.severity, decoded.shares) == (False, CheckSeverity.NONE, ())


@pytest.mark.parametrize(
    ("cpuid", "family", "model"),
    [
        (0x306C3, 6, 0x3C),
        (0xB0671, 6, 0xB7),
        (0x870F10, 0x17, 0x71),
        (0xA20F12, 0x19, 0x21),
        (0x600F20, 0x15, 0x02),
        (0x106A5, 6, 0x1A),
        (0x100F42, 0x10, 0x04),
    ],
)
def test_family_and_model_come_from_the_signature(cpuid: int, family: int, model: int) -> None:
    # SDM, volume 2, CPUID leaf 1 EAX; APM, volume 3, Fn0000_0001_EAX: extended fields count as defined there
    assert processor_family(cpuid) == (family, model)
    assert processor_family(signature(family, model, cpuid & 0xF)) == (family, model)


def test_the_scalable_architecture_names_the_lowest_valid_bit_in_the_address() -> None:
    # PPR, MCA_ADDR: 61:56 LSB, 55:0 ErrorAddr; the status' own bits 29:24 are 0 here
    decoded = V("", AMD, 0x9C20_4000_0001_0135, CE, Unit.CORE, "", ipid=ipid(0xB0, 0x10), address=0x0C00_0001_2345_6789)
    fields = fields_of(decoded.decode(), "ADDR")
    assert fields["lowest valid bit"] == (12, "exact to 4 KiB")
    assert fields["address"] == (0x1_2345_6789, "exact to 4 KiB")
    wild = V("", AMD, 0x9C20_4000_0001_0135, CE, Unit.CORE, "", ipid=ipid(0xB0, 0x10), address=0x2700_0000_0000_0000)
    assert "TiB" not in wild.decode().address_words
    coarse = V("", AMD, 0x9C20_4000_0001_0135, CE, Unit.CORE, "", ipid=ipid(0xB0, 0x10), address=0x2800_0000_0000_0000)
    assert coarse.decode().address_words == "not exact enough to name a place"


@pytest.mark.parametrize("vendor", [SDM, AMD, ANY])
@pytest.mark.parametrize(
    ("status", "severity"),
    [
        (0x9C00_0000_0000_009F, CE),
        (0xBC00_0000_0000_009F, SRAO),
        (0xBE00_0000_0000_009F, UC),
    ],
)
def test_the_bank_that_the_kernel_makes_up_for_firmware_is_memory_and_no_core(
    vendor: Vendor, status: int, severity: CheckSeverity
) -> None:
    decoded = V("", vendor, status, severity, Unit.MEMORY, "", bank=255, address=0x1000).decode()
    assert (decoded.unit, decoded.severity) == (Unit.MEMORY, severity)
    assert max(decoded.shares, key=lambda each: each.share).part is PartKind.MEMORY


@pytest.mark.parametrize(
    "check",
    [
        V("AMD LS load of poison", AMD, 0xBC00_0800_0001_0135, UC, Unit.POISONED, "", ipid=ipid(0xB0, 0x10), cpuid=ZEN),
        V("AMD IF poison", AMD, 0xBC00_0800_000C_0151, UC, Unit.POISONED, "", ipid=ipid(0xB0, 1), cpuid=ZEN),
        V("Intel SRAR load", SDM, 0xBD80_0000_0000_0134, SRAR, Unit.POISONED, "", bank=1, cpuid=HASWELL),
    ],
    ids=lambda each: each.section,
)
def test_a_core_that_read_poisoned_data_is_not_blamed(check: Vector) -> None:
    decoded = check.decode()
    shares = {each.part: each.share for each in decoded.shares}
    assert decoded.unit is Unit.POISONED
    assert shares[PartKind.MEMORY] > 2 * shares[PartKind.PROCESSOR]


def test_a_bank_is_not_named_against_what_the_error_says() -> None:
    # 06_3CH bank 4 is the power control unit; a cache error there means that this model counts otherwise
    odd = V("", SDM, 0x9000_0040_0000_0135, CE, Unit.CORE_CACHE, "", bank=4, cpuid=HASWELL).decode()
    assert (odd.unit, odd.unit_words) == (Unit.CORE_CACHE, "")
    mixed = V("", SDM, 0x9C00_0040_0000_0135, CE, Unit.CORE_CACHE, "", bank=1, cpuid=MIXED).decode()
    assert mixed.unit_words == ""


def test_bus_codes_name_their_level() -> None:
    # SDM, compound codes: 000F 1PPT RRRR IILL; 0x0E0B is a code of its own, 0x0811 has LL = 1
    decoded = V("", SDM, 0xB200_0000_0000_0811, UC, Unit.INTERCONNECT, "").decode()
    assert decoded.level == 1
    assert "level 1" in decoded.words
