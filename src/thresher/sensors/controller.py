"""Sensors of a management controller: their records, readings and thresholds (IPMI 2.0, chapters 33, 35, 36 and 43)."""

from dataclasses import dataclass

from thresher.model.controller_port import ControllerCommand, ControllerPort
from thresher.model.errors import SourceUnavailable

_FULL_RECORD = 0x01
_LAST = 0xFFFF
_MOST_RECORDS = 400
_HEADER, _PIECE = 5, 16
_RESERVATION_LOST = 0xC5
_THRESHOLD = 0x01
"""Event and reading type of a sensor with thresholds (table 42-1)."""
_UNITS = {1: "°C", 2: "°F", 4: "V", 5: "A", 6: "W", 18: "rpm"}
"""Base units that boards use (table 43-15)."""
_UPPER_CRITICAL, _LOWER_CRITICAL = 0b110000, 0b000110
_UPPER_NOTED, _LOWER_NOTED = 0b001000, 0b000001


@dataclass(frozen=True, slots=True)
class ControllerSensor:
    """One sensor as its record describes it: value = (m * raw + b * 10**b_exponent) * 10**exponent, in `unit`.

    `low` and `high` are its critical thresholds in that unit, None where the controller has none.
    """

    number: int
    name: str
    unit: str
    m: int
    b: int
    b_exponent: int
    exponent: int
    signed: bool
    low: float | None
    high: float | None

    def value(self, raw: int) -> float:
        """Return a raw reading in the sensor's unit."""
        return _value(raw, self.m, self.b, self.b_exponent, self.exponent, self.signed)


@dataclass(frozen=True, slots=True)
class ControllerReading:
    """A sensor with its value now (None when it is not read), and what the controller says of its thresholds."""

    sensor: ControllerSensor
    value: float | None
    critical: str = ""
    noted: str = ""


def _value(raw: int, m: int, b: int, b_exponent: int, exponent: int, signed: bool) -> float:
    reading = raw - 256 if signed and raw > 127 else raw
    return float((m * reading + b * 10.0**b_exponent) * 10.0**exponent)


def _twos(value: int, bits: int) -> int:
    return value - (1 << bits) if value & 1 << (bits - 1) else value


def parse_record(record: bytes) -> ControllerSensor | None:
    """Return the sensor of a full sensor record (table 43-1), None for any other, and for one without thresholds."""
    if len(record) < 48 or record[3] != _FULL_RECORD or record[13] != _THRESHOLD:
        return None
    m = _twos(record[24] | (record[25] & 0xC0) << 2, 10)
    b = _twos(record[26] | (record[27] & 0xC0) << 2, 10)
    exponent, b_exponent = _twos(record[29] >> 4, 4), _twos(record[29] & 0xF, 4)
    signed = record[20] >> 6 in (1, 2)
    readable = record[18]

    def threshold(place: int, bit: int) -> float | None:
        return _value(record[place], m, b, b_exponent, exponent, signed) if readable >> bit & 1 else None

    length = record[47] & 0x1F
    name = record[48 : 48 + length].decode("ascii", "replace").strip("\0 ") or f"sensor {record[7]}"
    unit = _UNITS.get(record[21], "%" if record[20] & 1 else "")
    # which thresholds can be read: bit 1 lower critical, bit 4 upper critical (table 43-1, byte 19)
    return ControllerSensor(
        record[7], name, unit, m, b, b_exponent, exponent, signed, threshold(40, 1), threshold(37, 4)
    )


def read_sensors(port: ControllerPort) -> tuple[ControllerReading, ...]:
    """Return all sensors with thresholds and their readings. Raises SourceUnavailable."""
    found = []
    for record in _records(port):
        sensor = parse_record(record)
        if sensor is not None:
            found.append(_read(port, sensor))
    return tuple(found)


def _records(port: ControllerPort) -> list[bytes]:
    """Return all records; each is read in pieces, since many controllers send no more at once."""
    records: list[bytes] = []
    number = 0
    while number != _LAST and len(records) < _MOST_RECORDS:
        number, record = _record(port, number)
        records.append(record)
    return records


def _record(port: ControllerPort, number: int) -> tuple[int, bytes]:
    for _ in range(3):
        reserved = port.ask(ControllerCommand.RESERVE_RECORDS)
        if reserved.code or len(reserved.data) < 2:
            raise SourceUnavailable("management controller", f"it reserves no records (code {reserved.code:02X}h)")
        follows, record, wanted = _LAST, b"", _HEADER
        while len(record) < wanted:
            piece = min(_PIECE, wanted - len(record))
            asked = reserved.data[:2] + number.to_bytes(2, "little") + bytes((len(record), piece))
            answer = port.ask(ControllerCommand.GET_RECORD, asked)
            if answer.code == _RESERVATION_LOST:
                break
            if answer.code or len(answer.data) <= 2:
                raise SourceUnavailable(
                    "management controller", f"record {number} cannot be read (code {answer.code:02X}h)"
                )
            follows, record = int.from_bytes(answer.data[:2], "little"), record + answer.data[2:]
            if len(record) >= _HEADER:
                wanted = _HEADER + record[4]
        else:
            return follows, record
    raise SourceUnavailable("management controller", "its records change while they are read")


def _read(port: ControllerPort, sensor: ControllerSensor) -> ControllerReading:
    answer = port.ask(ControllerCommand.SENSOR_READING, bytes((sensor.number,)))
    # bit 6: it is scanned; bit 5: its reading is not to be had now (35.14)
    if answer.code or len(answer.data) < 2 or answer.data[1] & 0x20 or not answer.data[1] & 0x40:
        return ControllerReading(sensor, None)
    state = answer.data[2] if len(answer.data) > 2 else 0
    critical = "too high" if state & _UPPER_CRITICAL else "too low" if state & _LOWER_CRITICAL else ""
    noted = "high" if state & _UPPER_NOTED else "low" if state & _LOWER_NOTED else ""
    return ControllerReading(sensor, sensor.value(answer.data[0]), critical, noted)
