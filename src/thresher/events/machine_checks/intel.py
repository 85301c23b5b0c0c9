"""Status and companion registers in one vendor's layout, and what is documented for its processor families.

Intel 64 and IA-32 Architectures Software Developer's Manual, volume 3B, chapter "Machine-Check Architecture" (layouts,
classes of recoverable errors, threshold status) and chapter "Interpreting Machine Check Error Codes" (by family).
"""

from dataclasses import dataclass

from thresher.events.machine_checks.error_codes import ErrorCode
from thresher.events.machine_checks.registers import BitField, CheckSeverity, Unit, bits, exactness

_CORE_BANKS = {
    0: (Unit.CORE, "instruction fetch unit"),
    1: (Unit.CORE_CACHE, "data cache unit"),
    2: (Unit.CORE_CACHE, "data TLB"),
    3: (Unit.CORE_CACHE, "mid-level cache"),
}
"""Banks of a core since family 6, model 1AH (chapter "Interpreting …", the tables of banks of 06_1AH and later)."""
_POWER_CONTROL = (Unit.POWER_CONTROL, "power control unit")
_FIRST_WITH_CORE_BANKS = frozenset({0x1A, 0x1E, 0x1F, 0x2E, 0x25, 0x2C, 0x2F})
_WITH_POWER_CONTROL = frozenset(
    {
        0x2A,
        0x2D,
        0x3A,
        0x3E,
        0x3C,
        0x3F,
        0x45,
        0x46,
        0x3D,
        0x47,
        0x4F,
        0x56,
        0x4E,
        0x5E,
        0x55,
        0x8E,
        0x9E,
        0xA5,
        0xA6,
        0x66,
        0x6A,
        0x6C,
        0x7D,
        0x7E,
        0x8C,
        0x8D,
        0xA7,
        0x8F,
        0xCF,
    }
)
"""Models with the power control unit in bank 4 (06_2AH and later of the large core, without those that mix cores)."""
_MIXED_CORES = frozenset({0x97, 0x9A, 0xB7, 0xBA, 0xBF, 0xAA, 0xAC, 0xC5, 0xC6})
"""Models that mix two kinds of cores, whose banks have different names."""
_SMALL_CORES = frozenset(
    {
        0x1C,
        0x26,
        0x27,
        0x35,
        0x36,
        0x37,
        0x4A,
        0x4D,
        0x4C,
        0x5A,
        0x5C,
        0x5D,
        0x5F,
        0x7A,
        0x86,
        0x96,
        0x9C,
        0xBE,
    }
)

_LINK_2EH = {
    0x00: "no error of the control firmware",
    0x0D: "the memory controller did not enter self-refresh in time",
    0x0E: "a core did not leave its sleep state in time",
    0x0F: "the package did not reach a safe state in time",
    0x43: "the management mailbox did not fall silent in time",
    0x5C: "more than one agent claims the trusted start",
    0x60: "a sleep request from the chipset that is not allowed",
    0x61: "a sleep request from the processor link that is not allowed",
    0x62: "an answer on the processor link that is not allowed",
    0x63: "an answer of the chipset that is not allowed",
    0x64: "a package state that is not allowed",
    0x70: "the watchdog of package sleep ran out (as second)",
    0x71: "the watchdog of package sleep ran out (as first)",
    0x72: "the watchdog of package sleep ran out",
    0x7A: "the home agent's fail state changed",
    0x81: "the die is too hot to continue, but can recover",
}
_FIRMWARE_2DH = {
    0x0: "no error",
    0x1: "access outside instruction memory",
    0x2: "parity error in an instruction",
    0x3: "an instruction that does not exist",
    0x4: "instruction stack underflow",
    0x5: "instruction stack overflow",
    0x6: "data stack underflow",
    0x7: "data stack overflow",
    0x8: "access outside data memory",
    0x9: "parity error in data",
}
_MEMORY_2DH = {
    0x001: "address parity error",
    0x002: "parity error in the write buffer's data",
    0x004: "parity error in the write buffer's byte enables",
    0x008: "corrected by patrol scrubbing",
    0x010: "found by patrol scrubbing, not corrected",
    0x020: "corrected while switching to a spare",
    0x040: "not corrected while switching to a spare",
}
_SERVER_MEMORY_BANKS = {0x2D: range(8, 12), 0x3E: range(9, 17), 0x3F: range(9, 17), 0x4F: range(9, 17)}

_THRESHOLD = ("no tracking", "green: below its own threshold", "yellow: above its own threshold", "reserved")
_ADDRESS_MODES = {0: "segment offset", 1: "linear address", 2: "physical address", 3: "memory address", 7: "generic"}


@dataclass(frozen=True, slots=True)
class FamilyWords:
    """What is documented for one family about one error; empty where nothing is."""

    unit: Unit | None
    bank_words: str
    model_words: str


def family_words(family: int, model: int, bank: int | None, status: int) -> FamilyWords:
    """Return the bank's name in this family and the meaning of the model-specific code, as far as documented."""
    unit, words = _bank(family, model, bank)
    return FamilyWords(unit, words, _model_words(family, model, bank, status))


def _bank(family: int, model: int, bank: int | None) -> tuple[Unit | None, str]:
    if family != 6 or model in _SMALL_CORES:
        return None, ""
    known = model in _FIRST_WITH_CORE_BANKS or model in _WITH_POWER_CONTROL or model in _MIXED_CORES
    if known and bank in _CORE_BANKS:
        # the registers do not report which kind of core it is, and the small ones count their banks in another way
        return _CORE_BANKS[bank] if model not in _MIXED_CORES else (None, "")
    if bank == 4 and model in _WITH_POWER_CONTROL:
        return _POWER_CONTROL
    if bank in _SERVER_MEMORY_BANKS.get(model, ()):
        return Unit.MEMORY, "memory controller"
    return None, ""


def _model_words(family: int, model: int, bank: int | None, status: int) -> str:
    if family != 6:
        return ""
    # table "Machine Check Error Codes for IA32_MC4_STATUS" of 06_2DH, valid with the unclassified internal code 402H
    if model == 0x2D and bank == 4 and status & 0xFFFF == 0x0402:
        firmware, link = _FIRMWARE_2DH.get(bits(status, 19, 16)), _LINK_2EH.get(bits(status, 31, 24))
        lines = [each for each in (firmware, link) if each and not each.startswith("no error")]
        return "; ".join(lines)
    # table "Intel IMC MC Error Codes for IA32_MCi_STATUS (i = 8, 11)"
    if model == 0x2D and bank in range(8, 12):
        return _MEMORY_2DH.get(bits(status, 31, 16), "")
    return ""


def severity_of(status: int, recovers: bool) -> CheckSeverity:
    """Return the class of a status; `recovers` when bits 56 and 55 have a meaning (IA32_MCG_CAP[24]).

    Section "UCR Error Classification". Where IA32_MCG_CAP is not known, processors since 2008 have the bit.
    """
    if not bits(status, 63, 63):
        return CheckSeverity.NONE
    if not bits(status, 61, 61):
        return CheckSeverity.CORRECTED
    if bits(status, 57, 57) or not recovers:
        return CheckSeverity.FATAL
    signalled, action = bits(status, 56, 56), bits(status, 55, 55)
    if signalled:
        return CheckSeverity.ACTION_REQUIRED if action else CheckSeverity.ACTION_OPTIONAL
    return CheckSeverity.FATAL if action else CheckSeverity.NO_ACTION


def counted(status: int, mcg_cap: int | None) -> int | None:
    """Return the count of corrected errors (bits 52:38), None where it does not hold.

    It holds for corrected errors when IA32_MCG_CAP[10] is set; where that is not known, processors since 2008 have it.
    """
    if bits(status, 61, 61) or (mcg_cap is not None and not mcg_cap >> 10 & 1):
        return None
    return bits(status, 52, 38)


_SATURATED = 0x7FFF


def counted_words(count: int) -> str:
    """Say how many errors a counter of 15 bits has counted: it stops at its end."""
    return f"at least {count}" if count >= _SATURATED else str(count)


def threshold_state(status: int, mcg_cap: int | None) -> int:
    """Return the threshold status (bits 54:53) of a corrected error, 0 where it is not tracked (IA32_MCG_CAP[11])."""
    if bits(status, 61, 61) or (mcg_cap is not None and not mcg_cap >> 11 & 1):
        return 0
    return bits(status, 54, 53)


def status_fields(status: int, code: ErrorCode, model_words: str, mcg_cap: int | None) -> list[BitField]:
    """Return the fields of IA32_MCi_STATUS between the common flags and the error code."""
    uncorrected = bits(status, 61, 61)
    fields: list[BitField] = []
    if uncorrected and (mcg_cap is None or mcg_cap >> 24 & 1):
        fields.append(_flag(status, 56, "signalled", "reported by a machine check", "found without one"))
        fields.append(_flag(status, 55, "action required", "the program must not continue", "none needed at once"))
        fields.append(BitField(54, 53, "threshold", bits(status, 54, 53), "no meaning for uncorrected errors"))
        fields.append(BitField(52, 38, "corrected count", bits(status, 52, 38), "of corrected errors before this one"))
    else:
        state, count = threshold_state(status, mcg_cap), counted(status, mcg_cap)
        fields.append(BitField(56, 55, "reserved", bits(status, 56, 55), "no meaning for corrected errors"))
        fields.append(BitField(54, 53, "threshold", bits(status, 54, 53), _THRESHOLD[state]))
        lines = f"{counted_words(count)} since last cleared" if count is not None else "not counted by this processor"
        fields.append(BitField(52, 38, "corrected count", bits(status, 52, 38), lines))
    fields.append(BitField(37, 32, "other information", bits(status, 37, 32), "meaning depends on the model"))
    lines = model_words or "not documented for this model"
    fields.append(BitField(31, 16, "model-specific code", bits(status, 31, 16), lines))
    filtered = "; further reports are held back" if status >> 12 & 1 and status & 0xFFFF != 0x0E0B else ""
    fields.append(BitField(15, 0, "error code", bits(status, 15, 0), code.words + filtered))
    return fields


def misc_fields(misc: int) -> list[BitField]:
    """Return the fields of IA32_MCi_MISC of processors that recover (section "IA32_MCi_MISC MSRs")."""
    mode, lowest = bits(misc, 8, 6), bits(misc, 5, 0)
    return [
        BitField(63, 9, "model-specific", bits(misc, 63, 9), "meaning depends on the model"),
        BitField(8, 6, "address mode", mode, _ADDRESS_MODES.get(mode, "reserved")),
        BitField(5, 0, "lowest valid bit", lowest, exactness(lowest)),
    ]


def address_words(misc: int | None) -> str:
    """Say what kind of address ADDR holds and how far it is good, by MISC; empty where MISC is not known."""
    if misc is None:
        return ""
    mode, lowest = _ADDRESS_MODES.get(bits(misc, 8, 6), "address of a reserved kind"), bits(misc, 5, 0)
    return f"{mode}, {exactness(lowest)}"


def _flag(value: int, bit: int, name: str, yes: str, no: str) -> BitField:
    return BitField(bit, bit, name, bits(value, bit, bit), yes if value >> bit & 1 else no)
