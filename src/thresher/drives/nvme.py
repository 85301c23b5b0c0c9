"""Pages of an NVMe drive (NVM Express base specification 1.4): identity, health, errors, firmware, self-tests."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.drives.fields import check_length, number, text

_ZERO_C = 273
_SELF_TESTS = 1 << 4
_MOST_RESULTS = 20
_RESULT_SIZE = 28
_UNIT = 512_000
"""Bytes of one data unit: a thousand times 512."""


@dataclass(frozen=True, slots=True)
class Controller:
    """Identify controller (5.15.2.2, figure 247). Temperatures in °C, None where the drive names none."""

    model: str
    serial: str
    firmware: str
    version: str
    warning_c: int | None
    critical_c: int | None
    capacity: int
    namespaces: int
    self_tests: bool
    extended_minutes: int
    firmware_slots: int
    thermal_range_c: tuple[int, int] | None
    thermal_management: bool


@dataclass(frozen=True, slots=True)
class Namespace:
    """Identify namespace (figure 245): size in blocks, and bytes of a block."""

    blocks: int
    block_size: int


@dataclass(frozen=True, slots=True)
class Health:
    """SMART / health information (5.14.1.2, figure 194): shares in per cent, counts, times in hours and minutes."""

    spare_low: bool
    too_hot: bool
    degraded: bool
    read_only: bool
    backup_failed: bool
    temperature_c: int | None
    spare: int
    spare_threshold: int
    used: int
    bytes_read: int
    bytes_written: int
    power_cycles: int
    hours: int
    unsafe_shutdowns: int
    media_errors: int
    error_entries: int
    warning_minutes: int
    critical_minutes: int
    sensors_c: tuple[int, ...]
    throttled: tuple[int, int]


@dataclass(frozen=True, slots=True)
class ErrorEntry:
    """One entry of the error information log (figure 193)."""

    count: int
    status: int
    lba: int
    namespace: int


class SelfTestResult(StrEnum):
    """How a self-test ended (figure 200)."""

    PASSED = "passed"
    ABORTED = "aborted"
    RESET = "aborted by a reset"
    FAILED = "failed"
    UNKNOWN = "unknown"


_RESULTS = {
    0x0: SelfTestResult.PASSED,
    0x1: SelfTestResult.ABORTED,
    0x2: SelfTestResult.RESET,
    0x3: SelfTestResult.ABORTED,
    0x4: SelfTestResult.ABORTED,
    0x5: SelfTestResult.FAILED,
    0x6: SelfTestResult.FAILED,
    0x7: SelfTestResult.FAILED,
    0x8: SelfTestResult.ABORTED,
    0x9: SelfTestResult.ABORTED,
}
_NOT_USED = 0xF


@dataclass(frozen=True, slots=True)
class SelfTest:
    """One self-test: whether the extended one, how it ended, at which hour, and the first bad block if it names one."""

    extended: bool
    result: SelfTestResult
    hours: int
    lba: int | None = None
    segment: int | None = None


@dataclass(frozen=True, slots=True)
class SelfTestLog:
    """The device self-test log: what runs now (None: nothing), how far in per cent, and past tests, newest first."""

    running: str | None
    done: int
    tests: tuple[SelfTest, ...]


def _celsius(kelvin: int) -> int | None:
    return kelvin - _ZERO_C if kelvin else None


def parse_controller(data: bytes) -> Controller:
    """Parse Identify controller. Raises DamagedPage."""
    check_length(data, 520, "NVMe identify controller")
    major, minor = number(data, 82, 2), data[81]
    low, high = number(data, 324, 2), number(data, 326, 2)
    return Controller(
        text(data[24:64]),
        text(data[4:24]),
        text(data[64:72]),
        f"{major}.{minor}" if major else "before 1.2",
        _celsius(number(data, 266, 2)),
        _celsius(number(data, 268, 2)),
        number(data, 280, 16),
        number(data, 516, 4),
        bool(number(data, 256, 2) & _SELF_TESTS),
        number(data, 316, 2),
        data[260] >> 1 & 7,
        (low - _ZERO_C, high - _ZERO_C) if low and high else None,
        bool(data[322] & 1),
    )


def parse_temperature_threshold(data: bytes) -> int | None:
    """Return the temperature in °C above which the drive warns (5.21.1.4), None where it is not set."""
    check_length(data, 4, "NVMe temperature threshold")
    kelvin = number(data, 0, 2)
    return _celsius(kelvin) if kelvin != 0xFFFF else None


def parse_thermal_management(data: bytes) -> tuple[int | None, int | None]:
    """Return from which temperatures in °C the drive slows itself down lightly and heavily (5.21.1.16)."""
    check_length(data, 4, "NVMe thermal management")
    return _celsius(number(data, 2, 2)), _celsius(number(data, 0, 2))


def parse_namespace(data: bytes) -> Namespace:
    """Parse Identify namespace. Raises DamagedPage."""
    check_length(data, 192, "NVMe identify namespace")
    form = data[26] & 0xF
    power = data[128 + 4 * form + 2]
    return Namespace(number(data, 0, 8), 1 << power if 9 <= power <= 24 else 0)


def parse_health(data: bytes) -> Health:
    """Parse the SMART / health log. Raises DamagedPage."""
    check_length(data, 512, "NVMe health log")
    warning = data[0]
    sensors = tuple(found for at in range(200, 216, 2) if (found := _celsius(number(data, at, 2))) is not None)
    return Health(
        bool(warning & 1),
        bool(warning & 2),
        bool(warning & 4),
        bool(warning & 8),
        bool(warning & 16),
        _celsius(number(data, 1, 2)),
        data[3],
        data[4],
        data[5],
        number(data, 32, 16) * _UNIT,
        number(data, 48, 16) * _UNIT,
        number(data, 112, 16),
        number(data, 128, 16),
        number(data, 144, 16),
        number(data, 160, 16),
        number(data, 176, 16),
        number(data, 192, 4),
        number(data, 196, 4),
        sensors,
        (number(data, 216, 4), number(data, 220, 4)),
    )


def parse_errors(data: bytes) -> tuple[ErrorEntry, ...]:
    """Parse the error information log, newest first. Raises DamagedPage where not even one entry is whole."""
    check_length(data, 64, "NVMe error log")
    entries = []
    for at in range(0, len(data) - 63, 64):
        count = number(data, at, 8)
        if count:  # entries that were never used have 0
            entries.append(
                ErrorEntry(count, number(data, at + 12, 2) >> 1, number(data, at + 16, 8), number(data, at + 24, 4))
            )
    return tuple(entries)


def parse_self_tests(data: bytes) -> SelfTestLog:
    """Parse the device self-test log. Raises DamagedPage."""
    check_length(data, 4, "NVMe self-test log")
    running = {0: None, 1: "short", 2: "extended"}.get(data[0] & 0xF, "vendor's own")
    tests = []
    for at in range(4, min(len(data), 4 + _MOST_RESULTS * _RESULT_SIZE) - _RESULT_SIZE + 1, _RESULT_SIZE):
        code, result = data[at] >> 4, data[at] & 0xF
        if result == _NOT_USED or not code:
            continue
        valid = data[at + 2]
        lba = number(data, at + 16, 8) if valid & 2 else None
        segment = data[at + 1] if result == 0x7 else None
        tests.append(
            SelfTest(code == 2, _RESULTS.get(result, SelfTestResult.UNKNOWN), number(data, at + 4, 8), lba, segment)
        )
    return SelfTestLog(running, data[1] & 0x7F if running else 0, tuple(tests))


def parse_firmware(data: bytes) -> tuple[int, tuple[str, ...]]:
    """Parse the firmware slot log: the active slot, and the revision in each slot. Raises DamagedPage."""
    check_length(data, 64, "NVMe firmware log")
    return data[0] & 7, tuple(text(data[8 + 8 * slot : 16 + 8 * slot]) for slot in range(7))
