"""Log pages of SCSI drives, and of USB bridges that pass no ATA commands (SPC-5 6.8 and 7.3, SBC-4 6.4)."""

from dataclasses import dataclass

from thresher.drives.fields import DamagedPage, check_length

TEMPERATURE, WRITE_ERRORS, READ_ERRORS, START_STOP, EXCEPTIONS = 0x0D, 0x02, 0x03, 0x0E, 0x2F
_CORRECTED, _UNCORRECTED = 0x0003, 0x0006
_UNKNOWN_C = 0xFF
_FAILURE_PREDICTED = 0x5D
_WARNING_TEMPERATURE = 0x0B


@dataclass(frozen=True, slots=True)
class ScsiPages:
    """What a SCSI drive has answered; None for what it does not report. Counts are in all, temperatures in °C."""

    temperature_c: int | None = None
    reference_c: int | None = None
    read_corrected: int | None = None
    read_uncorrected: int | None = None
    write_corrected: int | None = None
    write_uncorrected: int | None = None
    start_stops: int | None = None
    failure_predicted: bool | None = None
    too_hot: bool = False


def parameters(data: bytes, page: int) -> dict[int, bytes]:
    """Return the parameters of a log page by their code. Raises DamagedPage."""
    name = f"log page {page:02X}h"
    check_length(data, 4, name)
    if data[0] & 0x3F != page:
        raise DamagedPage(name, f"another page was sent: {data[0] & 0x3F:02X}h")
    end = 4 + int.from_bytes(data[2:4], "big")
    check_length(data, end, name)
    found: dict[int, bytes] = {}
    at = 4
    while at + 4 <= end:
        length = data[at + 3]
        if at + 4 + length > end:
            raise DamagedPage(name, "its last parameter is cut off")
        found.setdefault(int.from_bytes(data[at : at + 2], "big"), data[at + 4 : at + 4 + length])
        at += 4 + length
    return found


def parse_temperature(data: bytes) -> tuple[int | None, int | None]:
    """Return the temperature and the highest that the drive is made for. Raises DamagedPage."""
    found = parameters(data, TEMPERATURE)
    return _celsius(found.get(0, b"")), _celsius(found.get(1, b""))


def _celsius(value: bytes) -> int | None:
    return value[1] if len(value) >= 2 and value[1] != _UNKNOWN_C else None


def parse_errors(data: bytes, page: int) -> tuple[int | None, int | None]:
    """Return how many errors were corrected and how many were not, of reads or writes. Raises DamagedPage."""
    found = parameters(data, page)
    corrected, lost = (
        int.from_bytes(found[code], "big") if found.get(code) else None for code in (_CORRECTED, _UNCORRECTED)
    )
    return corrected, lost


def parse_start_stop(data: bytes) -> int | None:
    """Return how often it was started and stopped. Raises DamagedPage."""
    value = parameters(data, START_STOP).get(4, b"")
    return int.from_bytes(value, "big") if value else None


def parse_exceptions(data: bytes) -> tuple[bool, bool]:
    """Return whether the drive predicts its failure, and whether it is too hot. Raises DamagedPage."""
    value = parameters(data, EXCEPTIONS).get(0, b"")
    if len(value) < 2:
        raise DamagedPage("log page 2Fh", "its first parameter is missing")
    return value[0] == _FAILURE_PREDICTED, value[0] == _WARNING_TEMPERATURE
