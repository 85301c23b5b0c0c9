"""Sensors of a management controller: records and readings in bytes worked out by hand from IPMI 2.0."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.machine.controller import LiveController
from thresher.model.controller_port import ControllerAnswer, ControllerCommand
from thresher.model.errors import SourceUnavailable
from thresher.sensors.controller import parse_record, read_sensors

# record 7, version 51h, full record, 52 bytes follow; sensor 30h; voltage; thresholds; readable: both criticals
VOLTAGE = bytes.fromhex(
    "0700 51 01 2f"  # header: 47 bytes follow
    "20 00 30 07 01 7f 68 02 01"  # owner, LUN, number, entity 7.1, init, capabilities, type voltage, thresholds
    "0000 0000 12 12"  # masks; readable thresholds 12h, settable ones
    "00 04 00 00"  # unsigned, volts, no modifier, linear
    "3f 00 00 00 00 d0"  # M 63, B 0, exponents -3 and 0
    "00 00 00 00 ff 00"  # analog flags, nominal, normal and sensor extremes
    "00 d2 00 00 aa 00"  # upper NR, critical, NC; lower NR, critical, NC
    "00 00 0000 00"  # hysteresis, reserved, OEM
    "c4"
    "50313256"  # "P12V"
)


def test_a_record_is_read_as_the_table_has_it() -> None:
    assert len(VOLTAGE) == 52
    sensor = parse_record(VOLTAGE)
    assert sensor is not None
    assert (sensor.number, sensor.name, sensor.unit) == (0x30, "P12V", "V")
    # 63 * 191 / 1000 V; thresholds at AAh = 170 and D2h = 210
    assert sensor.value(191) == pytest.approx(12.033)
    assert sensor.low == pytest.approx(10.71)
    assert sensor.high == pytest.approx(13.23)


def test_signed_readings_and_ten_bit_factors() -> None:
    record = bytearray(VOLTAGE)
    record[20] = 0x80  # two's complement
    record[24:26] = bytes((0x2C, 0x40))  # M = 1 2Ch: 300
    record[26:28] = bytes((0xFE, 0xC0))  # B = 3 FEh of ten bits: -2
    record[29] = 0xF1  # exponents -1 of the result, 1 of B
    sensor = parse_record(bytes(record))
    assert sensor is not None
    assert (sensor.m, sensor.b, sensor.b_exponent, sensor.exponent) == (300, -2, 1, -1)
    assert sensor.value(0xFF) == pytest.approx((300 * -1 - 20) / 10)


@pytest.mark.parametrize(("place", "value"), [(3, 0x02), (13, 0x6F)])
def test_other_records_and_sensors_without_thresholds_are_passed_over(place: int, value: int) -> None:
    record = bytearray(VOLTAGE)
    record[place] = value
    assert parse_record(bytes(record)) is None


@given(st.binary(max_size=90))
def test_no_record_is_too_damaged(record: bytes) -> None:
    sensor = parse_record(record)
    assert sensor is None or isinstance(sensor.value(255), float)


class Controller:
    """Sends eight bytes of a record at most, and loses the first reservation."""

    def __init__(self, reading: bytes, code: int = 0) -> None:
        self._reading, self._code = reading, code
        self.lost = True

    def ask(self, command: ControllerCommand, data: bytes = b"") -> ControllerAnswer:
        if command is ControllerCommand.RESERVE_RECORDS:
            return ControllerAnswer(0, b"\x01\x00")
        if command is ControllerCommand.GET_RECORD:
            if data[4] >= 8 and self.lost:
                self.lost = False
                return ControllerAnswer(0xC5, b"")
            return ControllerAnswer(0, b"\xff\xff" + VOLTAGE[data[4] : data[4] + min(8, data[5])])
        assert data == b"\x30"
        return ControllerAnswer(self._code, self._reading)

    def close(self) -> None:
        pass


@pytest.mark.parametrize(
    ("reading", "value", "critical", "noted"),
    [
        (b"\xbf\xc0\xc0", 12.033, "", ""),
        (b"\xd4\xc0\xd0", 13.356, "too high", ""),
        (b"\xa0\xc0\xc2", 10.08, "too low", ""),
        (b"\xcc\xc0\xc8", 12.852, "", "high"),
        (b"\xbf\xe0\xc0", None, "", ""),
        (b"\xbf\x80\xc0", None, "", ""),
    ],
)
def test_readings_come_in_pieces_with_what_the_controller_says_of_them(
    reading: bytes, value: float | None, critical: str, noted: str
) -> None:
    (found,) = read_sensors(Controller(reading))
    assert found.value == (pytest.approx(value) if value is not None else None)
    assert (found.critical, found.noted) == (critical, noted)


def test_a_controller_that_refuses_a_sensor_has_no_reading_of_it() -> None:
    (found,) = read_sensors(Controller(b"", 0xCB))
    assert found.value is None


def test_records_that_cannot_be_had_are_said() -> None:
    class Busy(Controller):
        def ask(self, command: ControllerCommand, data: bytes = b"") -> ControllerAnswer:
            return ControllerAnswer(0xC0, b"")

    with pytest.raises(SourceUnavailable, match="code C0h"):
        read_sensors(Busy(b""))


def test_without_a_controller_that_is_said() -> None:
    with pytest.raises(SourceUnavailable, match="ipmi_devintf"):
        LiveController("/dev/ipmi99")
