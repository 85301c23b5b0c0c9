"""Status and companion registers in the other vendor's layout: the scalable architecture, and families before it.

AMD64 Architecture Programmer's Manual, volume 2, chapter 9 "Machine Check Architecture"; the Processor Programming
References of families 17h and 19h for the scalable architecture (MCA_STATUS, MCA_IPID, MCA_SYND); the BIOS and Kernel
Developer's Guides of families 10h and 15h for the northbridge's extended error codes.
"""

from dataclasses import dataclass
from importlib import resources

from thresher.events.machine_checks.error_codes import ErrorCode
from thresher.events.machine_checks.registers import BitField, CheckSeverity, Unit, bits, exactness
from thresher.model.errors import InputError, InputFault
from thresher.model.tomlfile import convert_list, parse_toml

_FORMAT = "thresher-amd-banks/1"
FIRST_SCALABLE_FAMILY = 0x17

_OLD_BANKS = {
    0: (Unit.CORE_CACHE, "data cache"),
    1: (Unit.CORE_CACHE, "instruction cache"),
    2: (Unit.CORE_CACHE, "bus unit and second-level cache"),
    3: (Unit.CORE, "load-store unit"),
    4: (Unit.INTERCONNECT, "northbridge"),
    5: (Unit.CORE, "execution unit"),
    6: (Unit.CORE, "floating-point unit"),
}
_NORTHBRIDGE: dict[int, tuple[Unit, str]] = {
    0x00: (Unit.MEMORY, "ECC error in memory"),
    0x01: (Unit.INTERCONNECT, "CRC error on a link"),
    0x02: (Unit.INTERCONNECT, "a link lost its synchronisation"),
    0x03: (Unit.BOARD_LINKS, "master abort on a link"),
    0x04: (Unit.BOARD_LINKS, "target abort on a link"),
    0x05: (Unit.INTERCONNECT, "error in the graphics address table"),
    0x06: (Unit.INTERCONNECT, "an atomic read and write failed"),
    0x07: (Unit.INTERCONNECT, "watchdog ran out: a request was never answered"),
    0x08: (Unit.MEMORY, "ECC error in memory that spans a whole chip"),
    0x09: (Unit.INTERCONNECT, "access of a device that is not allowed"),
    0x0A: (Unit.INTERCONNECT, "error in data on a link"),
    0x0B: (Unit.INTERCONNECT, "protocol error of a link or the third-level cache"),
    0x0C: (Unit.INTERCONNECT, "error in an array of the northbridge"),
    0x0D: (Unit.MEMORY_CHANNEL, "parity of address or command on the channel"),
    0x0E: (Unit.INTERCONNECT, "a link had to try again"),
    0x0F: (Unit.INTERCONNECT, "ECC error while walking the graphics address table"),
    0x1C: (Unit.SHARED_CACHE, "ECC in the third-level cache's data"),
    0x1D: (Unit.SHARED_CACHE, "ECC in the third-level cache's tags"),
    0x1E: (Unit.SHARED_CACHE, "parity of the third-level cache's replacement state"),
    0x1F: (Unit.SHARED_CACHE, "error in the probe filter"),
}
_CHANNEL_ERRORS = {4, 5, 8}
"""Extended codes of the memory controller that are of the wires of a channel and not of its cells."""


@dataclass(frozen=True, slots=True, kw_only=True)
class BankType:
    """A kind of bank: what it belongs to and its extended error codes from 0; an empty one is reserved."""

    hardware: int
    type: int
    name: str
    short: str
    unit: Unit
    errors: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class BankWords:
    """What is documented about one error of a bank; `unit` None where the bank is not known."""

    unit: Unit | None
    bank_words: str
    error_words: str
    channel: int | None = None
    chip_select: int | None = None


def load_bank_types() -> dict[tuple[int, int], BankType]:
    """Return the bank types by hardware identity and type. Raises InputError for a table that contradicts itself."""
    source = "amd_banks.toml"
    text = resources.files("thresher.events.machine_checks").joinpath(source).read_text(encoding="utf-8")
    faults: list[InputFault] = []
    found = convert_list(parse_toml(text, source, _FORMAT), "banks", BankType, faults)
    table = {(each.hardware, each.type): each for each in found}
    if len(table) != len(found):
        faults.append(InputFault("banks", "one hardware identity and type is given twice"))
    if faults:
        raise InputError(source, faults)
    return table


def scalable_words(
    types: dict[tuple[int, int], BankType], status: int, ipid: int | None, synd: int | None
) -> BankWords:
    """Return what a bank of the scalable architecture says; without IPID the kind of bank cannot be known."""
    if ipid is None:
        return BankWords(None, "", "")
    kind = types.get((bits(ipid, 43, 32), bits(ipid, 63, 48)))
    if kind is None:
        return BankWords(None, "", "")
    code = bits(status, 21, 16)
    words = kind.errors[code] if code < len(kind.errors) else ""
    if kind.unit is not Unit.MEMORY:
        return BankWords(kind.unit, kind.name, words)
    # the channel is in bits 23:20 of the instance; the chip select in the low bits of the syndrome of an ECC error
    channel = bits(ipid, 23, 20)
    chip_select = bits(synd, 2, 0) if synd is not None and code == 0 and bits(status, 53, 53) else None
    of_wires = Unit.MEMORY_CHANNEL if code in _CHANNEL_ERRORS else Unit.MEMORY_CONTROLLER
    return BankWords(Unit.MEMORY if code == 0 else of_wires, kind.name, words, channel, chip_select)


def older_words(bank: int | None, status: int) -> BankWords:
    """Return what a bank of families 10h to 16h says."""
    if bank == 4:
        unit, words = _NORTHBRIDGE.get(bits(status, 20, 16), (Unit.INTERCONNECT, ""))
        return BankWords(unit, "northbridge", words)
    unit_or_none, name = _OLD_BANKS.get(bank, (None, "")) if bank is not None else (None, "")
    return BankWords(unit_or_none, name, "")


def severity_of(status: int) -> CheckSeverity:
    """Return the class of a status (volume 2, section 9.3.2.4 and the deferred bit of later families)."""
    if not bits(status, 63, 63):
        return CheckSeverity.NONE
    if bits(status, 44, 44):
        return CheckSeverity.DEFERRED
    return CheckSeverity.FATAL if bits(status, 61, 61) else CheckSeverity.CORRECTED


def address_fields(address: int) -> list[BitField]:
    """Return the fields of MCA_ADDR of the scalable architecture: bits 61:56 name the lowest bit that is valid."""
    lowest = bits(address, 61, 56)
    return [
        BitField(61, 56, "lowest valid bit", lowest, exactness(lowest)),
        BitField(55, 0, "address", bits(address, 55, 0), exactness(lowest)),
    ]


def valid_address(address: int) -> int:
    """Return what counts of MCA_ADDR: bits 55 down to the lowest valid one."""
    lowest = bits(address, 61, 56)
    return bits(address, 55, 0) >> lowest << lowest


def status_fields(status: int, code: ErrorCode, error_words: str, scalable: bool) -> list[BitField]:
    """Return the fields of MCA_STATUS between the common flags and the error code."""
    flags = [
        (55, "task context corrupt", "the running task's state is lost", "the running task's state is whole"),
        (46, "corrected by ECC", "ECC corrected it", "no"),
        (45, "uncorrected by ECC", "ECC found it and could not correct it", "no"),
        (44, "deferred", "wrong data not used yet", "no"),
        (43, "poison", "data known to be wrong was used", "no"),
        (40, "scrub", "found by scrubbing", "no"),
    ]
    if scalable:
        flags.insert(0, (56, "core known", "bits 37:32 name the core", "no core is named"))
        flags.insert(2, (53, "syndrome valid", "SYND holds more", "SYND holds nothing"))
    fields = [_flag(status, *flag) for flag in flags]
    if scalable:
        fields.append(BitField(37, 32, "core", bits(status, 37, 32), "the core by its number in this bank"))
        lowest = bits(status, 29, 24)
        fields.append(BitField(29, 24, "lowest valid bit", lowest, f"{exactness(lowest)}; ADDR holds it too"))
    high = 21 if scalable else 20
    reported = error_words or "not documented for this bank"
    fields.append(BitField(high, 16, "extended error code", bits(status, high, 16), reported))
    fields.append(BitField(15, 0, "error code", bits(status, 15, 0), code.words))
    return fields


def ipid_fields(ipid: int, kind: str) -> list[BitField]:
    """Return the fields of MCA_IPID."""
    return [
        BitField(63, 48, "type", bits(ipid, 63, 48), kind or "unknown"),
        BitField(47, 44, "instance, high", bits(ipid, 47, 44), "which of several, upper part"),
        BitField(43, 32, "hardware", bits(ipid, 43, 32), kind or "unknown"),
        BitField(31, 0, "instance", bits(ipid, 31, 0), "which of several"),
    ]


def _flag(value: int, bit: int, name: str, yes: str, no: str) -> BitField:
    return BitField(bit, bit, name, bits(value, bit, bit), yes if value >> bit & 1 else no)
