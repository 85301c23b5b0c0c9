"""Pages of an ATA drive (ACS-4, and for the attribute table the de-facto layout of SFF-8035i that all drives keep)."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.drives.fields import check_length, check_sum, number, swapped_text

_SIGNED = 0xA5
_ATTRIBUTES = 30
_ATTRIBUTE_SIZE = 12
_GOOD, _EXCEEDED = 0xC24F, 0x2CF4
_ROTATES = 0x0401


@dataclass(frozen=True, slots=True)
class Identity:
    """IDENTIFY DEVICE (ACS-4, 7.13): sizes in bytes, speeds in Gb/s; 0 where the drive does not say.

    `rotation` is the nominal rate in rotations per minute, 1 for a solid-state drive, 0 where it is not reported.
    """

    model: str
    serial: str
    firmware: str
    sectors: int
    logical: int
    physical: int
    rotation: int
    has_smart: bool
    smart_on: bool
    error_log: bool
    self_tests: bool
    general_logs: bool
    speed_now: float
    speed_most: float
    wwn: str


@dataclass(frozen=True, slots=True)
class Attribute:
    """One attribute: its number, normalised value and the worst of them, the raw bytes, and its flags."""

    number: int
    value: int
    worst: int
    raw: bytes
    flags: int

    @property
    def early_warning(self) -> bool:
        """Whether reaching the threshold means a failure within a day, not only the end of its design life."""
        return bool(self.flags & 1)


@dataclass(frozen=True, slots=True)
class SmartData:
    """SMART READ DATA: the attributes, the state of the self-test that ran last, and how long self-tests take."""

    attributes: tuple[Attribute, ...]
    test_state: int
    test_left: int
    short_minutes: int
    extended_minutes: int


class SelfTestState(StrEnum):
    """How a self-test ended (ACS-4, table of self-test execution status values)."""

    PASSED = "passed"
    ABORTED = "aborted"
    RESET = "aborted by a reset"
    UNKNOWN = "could not complete"
    FAILED = "failed"
    FAILED_ELECTRICAL = "failed: electrical"
    FAILED_SERVO = "failed: servo"
    FAILED_READ = "failed: read"
    DAMAGED = "failed: handling damage"
    RUNNING = "in progress"

    @property
    def failed(self) -> bool:
        """Whether the drive found itself faulty."""
        return self.value.startswith("failed")


_STATES = {
    0x0: SelfTestState.PASSED,
    0x1: SelfTestState.ABORTED,
    0x2: SelfTestState.RESET,
    0x3: SelfTestState.UNKNOWN,
    0x4: SelfTestState.FAILED,
    0x5: SelfTestState.FAILED_ELECTRICAL,
    0x6: SelfTestState.FAILED_SERVO,
    0x7: SelfTestState.FAILED_READ,
    0x8: SelfTestState.DAMAGED,
    0xF: SelfTestState.RUNNING,
}
_KINDS = {1: "short", 2: "extended", 3: "conveyance", 4: "selective", 129: "short", 130: "extended"}


@dataclass(frozen=True, slots=True)
class SelfTest:
    """One self-test of the log: its kind, how it ended, at which power-on hour, and the first bad sector."""

    kind: str
    state: SelfTestState
    hours: int
    lba: int | None


@dataclass(frozen=True, slots=True)
class LoggedError:
    """One error of the error log: the drive's hour, the command that failed, the error register, and the sector."""

    hours: int
    command: int
    error: int
    status: int
    lba: int

    @property
    def link(self) -> bool:
        """Whether the data were damaged on the link, so cable or port (ERROR bit 7: interface CRC)."""
        return bool(self.error & 0x80)

    @property
    def unreadable(self) -> bool:
        """Whether a sector could not be read (ERROR bit 6: uncorrectable)."""
        return bool(self.error & 0x40)


@dataclass(frozen=True, slots=True)
class ErrorLog:
    """The error log: how many errors there were in all, and the newest of them, newest first."""

    count: int
    errors: tuple[LoggedError, ...]


def _word(data: bytes, index: int) -> int:
    return number(data, 2 * index, 2)


def _speed(generations: int) -> float:
    """Return the fastest of the speeds in word 76 (bits 1 to 3)."""
    return max((rate for bit, rate in ((1, 1.5), (2, 3.0), (3, 6.0)) if generations >> bit & 1), default=0.0)


def parse_identity(data: bytes) -> Identity:
    """Parse IDENTIFY DEVICE. Raises DamagedPage."""
    check_length(data, 512, "ATA identify")
    if data[510] == _SIGNED:
        check_sum(data, "ATA identify")
    supported, enabled, extended = _word(data, 82), _word(data, 85), _word(data, 84)
    wide = _word(data, 83) & 1 << 10
    geometry = _word(data, 106)
    logical = 512
    per_physical = 1
    if geometry & 0xC000 == 0x4000:
        logical = number(data, 234, 4) * 2 if geometry & 1 << 12 else 512
        per_physical = 1 << (geometry & 0xF) if geometry & 1 << 13 else 1
    valid = extended & 0xC000 == 0x4000
    speeds = _word(data, 76)
    rotation = _word(data, 217)
    name = b"".join(data[at : at + 2][::-1] for at in range(216, 224, 2))
    return Identity(
        swapped_text(data[54:94]),
        swapped_text(data[20:40]),
        swapped_text(data[46:54]),
        number(data, 200, 8) if wide else number(data, 120, 4),
        logical or 512,
        (logical or 512) * per_physical,
        rotation if rotation == 1 or rotation >= _ROTATES else 0,
        bool(supported & 1),
        bool(enabled & 1),
        valid and bool(extended & 1),
        valid and bool(extended & 2),
        valid and bool(extended & 1 << 5),
        {1: 1.5, 2: 3.0, 3: 6.0}.get(_word(data, 77) >> 1 & 7, 0.0),
        _speed(speeds) if speeds not in (0, 0xFFFF) else 0.0,
        name.hex() if any(name) else "",
    )


def parse_smart(data: bytes) -> SmartData:
    """Parse SMART READ DATA. Raises DamagedPage."""
    check_sum(data, "SMART data")
    attributes = [
        Attribute(data[at], data[at + 3], data[at + 4], data[at + 5 : at + 11], number(data, at + 1, 2))
        for at in range(2, 2 + _ATTRIBUTES * _ATTRIBUTE_SIZE, _ATTRIBUTE_SIZE)
        if data[at]
    ]
    extended = data[373] if data[373] != 0xFF else number(data, 375, 2)
    return SmartData(tuple(attributes), data[363] >> 4, (data[363] & 0xF) * 10, data[372], extended)


def parse_thresholds(data: bytes) -> dict[int, int]:
    """Parse SMART READ THRESHOLDS: the threshold of each attribute by its number. Raises DamagedPage."""
    check_sum(data, "SMART thresholds")
    return {data[at]: data[at + 1] for at in range(2, 2 + _ATTRIBUTES * _ATTRIBUTE_SIZE, _ATTRIBUTE_SIZE) if data[at]}


def threshold_exceeded(lba: int) -> bool | None:
    """Read the answer of SMART RETURN STATUS from the LBA registers; None where it is neither of the two."""
    return {_GOOD: False, _EXCEEDED: True}.get(lba >> 8 & 0xFFFF)


def self_test_state(code: int) -> SelfTestState:
    """Return what the upper half of a self-test status says."""
    return _STATES.get(code, SelfTestState.UNKNOWN)


def parse_self_tests(data: bytes) -> tuple[SelfTest, ...]:
    """Parse the SMART self-test log, newest first (ACS-3, A.13). Raises DamagedPage."""
    check_sum(data, "SMART self-test log")
    return _self_test_ring(data, data[508], _Ring(2, 24, 21, 4))


def parse_extended_self_tests(data: bytes) -> tuple[SelfTest, ...]:
    """Parse the first page of the extended SMART self-test log, newest first (ACS-4, 9.10). Raises DamagedPage."""
    check_sum(data, "extended self-test log")
    return _self_test_ring(data, number(data, 2, 2), _Ring(4, 26, 19, 6))


@dataclass(frozen=True, slots=True)
class _Ring:
    """Where the tests of a log lie: the first byte, bytes of a test, how many there are, bytes of an address."""

    begin: int
    size: int
    places: int
    address: int


def _self_test_ring(data: bytes, newest: int, ring: _Ring) -> tuple[SelfTest, ...]:
    """Return the tests of a log that is written round and round; `newest` counts from 1, 0 for an empty one."""
    if not 1 <= newest <= ring.places:
        return ()
    tests = []
    for back in range(ring.places):
        at = ring.begin + ring.size * ((newest - 1 - back) % ring.places)
        if not any(data[at : at + ring.size]):
            continue
        lba = number(data, at + 5, ring.address)
        state = self_test_state(data[at + 1] >> 4)
        named = state.failed and lba != (1 << 8 * ring.address) - 1
        kind = _KINDS.get(data[at], f"kind {data[at]}")
        tests.append(SelfTest(kind, state, number(data, at + 2, 2), lba if named else None))
    return tuple(tests)


def parse_error_log(data: bytes) -> ErrorLog:
    """Parse the summary SMART error log, newest first (ACS-3, A.16: five errors of 90 bytes). Raises DamagedPage."""
    check_sum(data, "SMART error log")
    newest = data[1]
    count = number(data, 452, 2)
    if not 1 <= newest <= 5:
        return ErrorLog(count, ())
    errors = []
    for back in range(5):
        at = 2 + 90 * ((newest - 1 - back) % 5)
        error, last = at + 60, at + 48
        if not any(data[at : at + 90]):
            continue
        lba = data[error + 3] | data[error + 4] << 8 | data[error + 5] << 16 | (data[error + 6] & 0xF) << 24
        errors.append(LoggedError(number(data, error + 28, 2), data[last + 7], data[error + 1], data[error + 7], lba))
    return ErrorLog(count, tuple(errors))


def parse_extended_error_log(data: bytes) -> ErrorLog:
    """Parse the first page of the extended comprehensive error log, newest first (ACS-4, 9.7). Raises DamagedPage."""
    check_sum(data, "extended error log")
    newest = number(data, 2, 2)
    count = number(data, 500, 2)
    if not newest:
        return ErrorLog(count, ())
    errors = []
    # the index counts over all pages; where the newest is on a later one, all four of this page are older than that
    order = [(newest - 1 - back) % 4 for back in range(4)] if newest <= 4 else [3, 2, 1, 0]
    for place in order:
        at = 4 + 124 * place
        error, last = at + 90, at + 72
        if not any(data[at : at + 124]):
            continue
        lba = sum(data[error + byte] << shift for byte, shift in ((4, 0), (6, 8), (8, 16), (5, 24), (7, 32), (9, 40)))
        errors.append(LoggedError(number(data, error + 32, 2), data[last + 12], data[error + 1], data[error + 11], lba))
    return ErrorLog(count, tuple(errors))


_SUPPORTED, _VALID = 1 << 63, 1 << 62


@dataclass(frozen=True, slots=True)
class Statistics:
    """What a drive keeps in its device statistics; None where it does not (ACS-4, 9.5)."""

    hours: int | None = None
    resets: int | None = None
    sectors_written: int | None = None
    sectors_read: int | None = None
    reallocated: int | None = None
    candidates: int | None = None
    start_failures: int | None = None
    uncorrectable: int | None = None
    command_resets: int | None = None
    temperature_c: int | None = None
    highest_c: int | None = None
    link_crc: int | None = None
    used: int | None = None


_PLACES: dict[int, tuple[tuple[str, int, int], ...]] = {
    1: (("resets", 8, 4), ("hours", 16, 4), ("sectors_written", 24, 6), ("sectors_read", 40, 6)),
    3: (("reallocated", 32, 4), ("start_failures", 48, 4), ("candidates", 56, 4)),
    4: (("uncorrectable", 8, 4), ("command_resets", 16, 4)),
    5: (("temperature_c", 8, 1), ("highest_c", 32, 1)),
    6: (("link_crc", 24, 4),),
    7: (("used", 8, 1),),
}
"""By page: the statistic, its byte, and its size. Each is a quadword whose highest bits say whether it counts."""
_SIGNED_FIELDS = {"temperature_c", "highest_c"}


def parse_statistics(pages: dict[int, bytes]) -> Statistics:
    """Parse pages of the device statistics log by their number; pages that are absent count nothing."""
    found: dict[str, int] = {}
    for page, data in pages.items():
        check_length(data, 512, f"device statistics page {page}")
        if data[2] != page:
            continue  # a page that the drive does not keep comes as zeros
        for name, at, size in _PLACES.get(page, ()):
            flags = number(data, at, 8)
            if flags & _SUPPORTED and flags & _VALID:
                value = number(data, at, size)
                found[name] = value - 256 if name in _SIGNED_FIELDS and value > 127 else value
    return Statistics(**found)


def parse_link_counters(data: bytes) -> dict[int, int]:
    """Parse the SATA phy event counters by identifier (ACS-4, 9.15). Raises DamagedPage."""
    check_sum(data, "link event counters")
    counters: dict[int, int] = {}
    at = 4
    while at + 2 <= 510:
        identifier = number(data, at, 2)
        size = (identifier >> 12 & 7) * 2
        if not identifier or not size:
            break
        counters[identifier & 0xFFF] = number(data, at + 2, size)
        at += 2 + size
    return counters


LINK_CRC = 0x001
"""Phy event counter: commands that ended with an interface CRC error."""


def parse_pending(data: bytes) -> tuple[int, tuple[int, ...]]:
    """Parse the first page of the pending defects log: how many there are, and the sectors listed (ACS-4, 9.17)."""
    check_length(data, 512, "pending defects")
    count = number(data, 0, 4)
    listed = tuple(number(data, at + 8, 8) for at in range(16, 512, 16))[: min(count, 31)]
    return count, listed
