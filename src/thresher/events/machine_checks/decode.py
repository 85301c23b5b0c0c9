"""From the registers of one machine check to what they say and what they point at."""

from dataclasses import dataclass, field
from importlib import resources

from thresher.events.machine_checks import amd, intel
from thresher.events.machine_checks.error_codes import ErrorCode, decode_error_code
from thresher.events.machine_checks.registers import (
    BitField,
    CheckPlace,
    CheckSeverity,
    DecodedCheck,
    MachineCheck,
    PartShare,
    Strip,
    Unit,
    bits,
    exactness,
    processor_family,
)
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_list, parse_toml
from thresher.model.vendors import Vendor

_UNITS_FORMAT = "thresher-check-units/1"


@dataclass(frozen=True, slots=True, kw_only=True)
class UnitMeaning:
    """What an error in a unit points at: parts with shares that add up to 1, and causes, most likely first."""

    unit: Unit
    shares: dict[PartKind, float]
    causes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class CheckKnowledge:
    """The tables that decoding needs."""

    units: dict[Unit, UnitMeaning] = field(default_factory=dict)
    banks: dict[tuple[int, int], amd.BankType] = field(default_factory=dict)


def load_check_knowledge() -> CheckKnowledge:
    """Return the tables that come with the program. Raises InputError for tables that contradict themselves."""
    text = resources.files("thresher.events.machine_checks").joinpath("units.toml").read_text(encoding="utf-8")
    return CheckKnowledge(parse_units(text, "units.toml"), amd.load_bank_types())


def parse_units(text: str, source: str) -> dict[Unit, UnitMeaning]:
    """Parse the table of units. Raises InputError with every fault."""
    faults: list[InputFault] = []
    found = convert_list(parse_toml(text, source, _UNITS_FORMAT), "units", UnitMeaning, faults)
    units = {each.unit: each for each in found}
    faults += [InputFault(each.value, "is not described") for each in Unit if each not in units]
    faults += [
        InputFault(each.unit.value, f"shares add up to {sum(each.shares.values()):g}, not 1")
        for each in found
        if abs(sum(each.shares.values()) - 1.0) > 1e-6
    ]
    if faults:
        raise InputError(source, faults)
    return units


@dataclass(frozen=True, slots=True)
class _Reading:
    """What the vendor's rules made of a check."""

    code: ErrorCode
    severity: CheckSeverity
    unit: Unit
    bank_words: str
    error_words: str
    fields: list[BitField]
    address_words: str = ""
    count: int | None = None
    above: bool = False
    channel: int | None = None
    chip_select: int | None = None


def decode_check(check: MachineCheck, knowledge: CheckKnowledge) -> DecodedCheck:
    """Decode a check by its vendor's layout; what no manual says is called unknown, never guessed."""
    status = check.status
    valid = bool(bits(status, 63, 63))
    reading = _by_vendor(check, knowledge)
    meaning = knowledge.units[reading.unit]
    words = reading.code.words if not reading.error_words else f"{reading.error_words} ({reading.code.words})"
    unit_words = reading.bank_words
    reported = f"{unit_words}: {words}" if unit_words else words
    summary = f"{reading.severity.value}: {reported}" if valid else "no valid error in this register"
    return DecodedCheck(
        valid=valid,
        severity=reading.severity,
        place=reading.code.place,
        unit=reading.unit,
        unit_words=unit_words,
        level=reading.code.level,
        words=words,
        summary=summary,
        overflow=bool(bits(status, 62, 62)),
        poison=check.vendor is Vendor.AMD and bool(bits(status, 43, 43)),
        address_valid=bool(bits(status, 58, 58)),
        address_words=reading.address_words,
        corrected_count=reading.count,
        above_threshold=reading.above,
        channel=reading.channel,
        chip_select=reading.chip_select,
        strips=_strips(check, reading),
        shares=tuple(PartShare(part, share) for part, share in meaning.shares.items()) if valid else (),
        causes=meaning.causes if valid else (),
    )


FIRMWARE_BANK = 255
"""The bank that the kernel makes up for memory errors which firmware reported (arch/x86/kernel/cpu/mce/apei.c)."""
_FIRMWARE_MEMORY = ErrorCode(CheckPlace.MEMORY_CONTROLLER, Unit.MEMORY, None, "memory error that firmware reported")
_VICTIMS = (Unit.CORE, Unit.CORE_CACHE, Unit.SHARED_CACHE, Unit.INTERCONNECT, Unit.UNKNOWN)
"""Units that report poisoned data which they only met."""
_MET_POISON = {0x0134, 0x0150, 0x017A}
"""Codes of recoverable checks that are of poisoned data by definition: data load, instruction fetch, and write-back of
the last-level cache (section "Architecturally Defined UCR Errors")."""


def _from_firmware(check: MachineCheck) -> _Reading:
    status = check.status
    severity = CheckSeverity.CORRECTED
    if bits(status, 61, 61):
        severity = CheckSeverity.FATAL if bits(status, 57, 57) else CheckSeverity.ACTION_OPTIONAL
    if not bits(status, 63, 63):
        severity = CheckSeverity.NONE
    made_up = BitField(56, 0, "made up by the kernel", bits(status, 56, 0), "only the address is from the hardware")
    return _Reading(_FIRMWARE_MEMORY, severity, Unit.MEMORY, "", "", [made_up])


def _by_vendor(check: MachineCheck, knowledge: CheckKnowledge) -> _Reading:
    if check.bank == FIRMWARE_BANK:
        return _from_firmware(check)
    if check.vendor is Vendor.AMD:
        return _as_amd(check, knowledge)
    if check.vendor is Vendor.INTEL:
        return _as_intel(check)
    # only what both vendors' manuals define alike
    code = decode_error_code(check.status, Vendor.UNKNOWN)
    corrected = CheckSeverity.FATAL if bits(check.status, 61, 61) else CheckSeverity.CORRECTED
    severity = corrected if bits(check.status, 63, 63) else CheckSeverity.NONE
    rest = [
        BitField(56, 32, "vendor-specific", bits(check.status, 56, 32), "the vendor is not known"),
        BitField(31, 16, "model-specific code", bits(check.status, 31, 16), "the vendor is not known"),
        BitField(15, 0, "error code", bits(check.status, 15, 0), code.words),
    ]
    return _Reading(code, severity, code.unit, "", "", rest)


def _as_intel(check: MachineCheck) -> _Reading:
    status, cap = check.status, check.mcg_cap
    code = decode_error_code(status, Vendor.INTEL)
    family, model = processor_family(check.cpuid) if check.cpuid is not None else (0, 0)
    reported = intel.family_words(family, model, check.bank, status)
    # the error code names cache, memory or link better than the bank does; the bank names the rest
    general = code.unit in (Unit.CORE, Unit.UNKNOWN) or code.place is CheckPlace.INTERNAL
    unit = reported.unit if reported.unit is not None and general else code.unit
    bank_words = reported.bank_words
    if reported.unit is not None and not _agree(reported.unit, unit):
        bank_words = ""  # this model counts its banks in another way than is documented
    elif reported.unit is Unit.CORE_CACHE and unit is Unit.SHARED_CACHE:
        unit = Unit.CORE_CACHE  # the bank is the core's own, whatever number the level has
    recovers = cap is None or bool(cap >> 24 & 1)
    severity = intel.severity_of(status, recovers)
    recoverable = severity in (CheckSeverity.ACTION_REQUIRED, CheckSeverity.ACTION_OPTIONAL)
    if recoverable and status & 0xEFFF in _MET_POISON:
        unit, bank_words = Unit.POISONED, reported.bank_words
    has_misc = bool(bits(status, 59, 59))
    return _Reading(
        code,
        severity,
        unit,
        bank_words,
        reported.model_words,
        intel.status_fields(status, code, reported.model_words, cap),
        intel.address_words(check.misc if has_misc and recovers else None),
        intel.counted(status, cap),
        intel.threshold_state(status, cap) == 2,
        code.channel,
    )


_KINDS_OF_UNIT = (
    {Unit.CORE, Unit.CORE_CACHE, Unit.SHARED_CACHE, Unit.UNKNOWN},
    {Unit.MEMORY, Unit.MEMORY_CONTROLLER, Unit.MEMORY_CHANNEL, Unit.INTERCONNECT, Unit.UNKNOWN},
    {Unit.POWER_CONTROL, Unit.UNKNOWN},
)


def _agree(bank: Unit, error: Unit) -> bool:
    """Whether a bank of this unit can hold an error of that one."""
    return any(bank in kind and error in kind for kind in _KINDS_OF_UNIT)


def _as_amd(check: MachineCheck, knowledge: CheckKnowledge) -> _Reading:
    status = check.status
    code = decode_error_code(status, Vendor.AMD)
    family = processor_family(check.cpuid)[0] if check.cpuid is not None else None
    scalable = check.ipid is not None or (family is not None and family >= amd.FIRST_SCALABLE_FAMILY)
    if scalable:
        reported = amd.scalable_words(knowledge.banks, status, check.ipid, check.syndrome)
    elif family is not None:
        reported = amd.older_words(check.bank, status)
    else:
        reported = amd.BankWords(None, "", "")
    known = scalable and check.address is not None and bool(bits(status, 58, 58))
    address = exactness(bits(check.address, 61, 56)) if known and check.address is not None else ""
    unit = reported.unit or code.unit
    if bits(status, 43, 43) and unit in _VICTIMS:
        unit = Unit.POISONED
    return _Reading(
        code,
        amd.severity_of(status),
        unit,
        reported.bank_words,
        reported.error_words,
        amd.status_fields(status, code, reported.error_words, scalable),
        address,
        channel=reported.channel,
        chip_select=reported.chip_select,
    )


def _common_flags(status: int) -> list[BitField]:
    named = (
        (63, "valid", "the register holds an error", "nothing is logged"),
        (62, "overflow", "further errors were lost", "no error was lost"),
        (61, "uncorrected", "not corrected", "corrected by the hardware"),
        (60, "enabled", "reporting was on", "reporting was off"),
        (59, "misc valid", "MISC holds more", "MISC holds nothing"),
        (58, "address valid", "ADDR holds an address", "no address"),
        (57, "context corrupt", "the processor's state is lost", "the processor's state is whole"),
    )
    return [
        BitField(bit, bit, name, bits(status, bit, bit), yes if status >> bit & 1 else no)
        for bit, name, yes, no in named
    ]


def _strips(check: MachineCheck, reading: _Reading) -> tuple[Strip, ...]:
    strips = [_strip("STATUS", check.status, [*_common_flags(check.status), *reading.fields])]
    if check.address is not None:
        reported = reading.address_words or "as the bank defines it"
        whole = [BitField(63, 0, "address", check.address, reported)]
        scalable = check.vendor is Vendor.AMD and bool(reading.address_words)
        strips.append(_strip("ADDR", check.address, amd.address_fields(check.address) if scalable else whole))
    if check.misc is not None and check.vendor is Vendor.INTEL:
        strips.append(_strip("MISC", check.misc, intel.misc_fields(check.misc)))
    if check.ipid is not None:
        strips.append(_strip("IPID", check.ipid, amd.ipid_fields(check.ipid, reading.bank_words)))
    if check.syndrome is not None:
        reported = "which bits were wrong, as the bank defines it"
        strips.append(_strip("SYND", check.syndrome, [BitField(63, 0, "syndrome", check.syndrome, reported)]))
    if check.mcg_status is not None:
        strips.append(_strip("MCG_STATUS", check.mcg_status, mcg_status_fields(check.mcg_status)))
    if check.mcg_cap is not None:
        strips.append(_strip("MCG_CAP", check.mcg_cap, mcg_cap_fields(check.mcg_cap)))
    return tuple(strips)


def _strip(name: str, value: int, fields: list[BitField]) -> Strip:
    """Return a register with its fields; bits between them are named as such, so that none is left out."""
    whole: list[BitField] = []
    highest = 63
    for each in [*fields, None]:
        low = each.high + 1 if each is not None else 0
        if highest >= low:
            gap = bits(value, highest, low)
            whole.append(BitField(highest, low, "reserved", gap, "these bits are not documented"))
        if each is not None:
            whole.append(each)
            highest = each.low - 1
    return Strip(name, value, tuple(whole))


def mcg_cap_fields(value: int) -> list[BitField]:
    """Return the fields of IA32_MCG_CAP (section "IA32_MCG_CAP MSR")."""

    def flag(bit: int, name: str, yes: str, no: str) -> BitField:
        return BitField(bit, bit, name, bits(value, bit, bit), yes if value >> bit & 1 else no)

    return [
        flag(27, "local machine checks", "may be reported to one thread only", "are reported to all"),
        flag(26, "extended log", "firmware keeps a record", "no record of firmware"),
        flag(25, "firmware first", "firmware may take errors first", "no"),
        flag(24, "recovery", "some uncorrected errors can be recovered", "no recovery"),
        BitField(23, 16, "extended registers", bits(value, 23, 16), "how many hold the state at the error"),
        flag(11, "threshold status", "kept for corrected errors", "not kept"),
        flag(10, "corrected interrupt", "corrected errors interrupt and are counted", "corrected errors are polled"),
        flag(9, "extended registers present", "yes", "no"),
        flag(8, "control register", "present", "absent"),
        BitField(7, 0, "banks", bits(value, 7, 0), "how many banks there are"),
    ]


def mcg_status_fields(value: int) -> list[BitField]:
    """Return the fields of IA32_MCG_STATUS (section "IA32_MCG_STATUS MSR")."""
    named = (
        (3, "local", "reported to this thread only", "reported to all threads"),
        (2, "in progress", "a machine check is being handled", "none is being handled"),
        (1, "instruction known", "the instruction at fault is the one interrupted", "not tied to an instruction"),
        (0, "restart possible", "the program can continue where it was", "the program cannot continue"),
    )
    return [
        BitField(bit, bit, name, bits(value, bit, bit), yes if value >> bit & 1 else no) for bit, name, yes, no in named
    ]
