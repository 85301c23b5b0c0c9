"""The management controller of a simulated machine: answers by IPMI 2.0, its records as chapter 43 has them."""

from collections.abc import Callable
from dataclasses import dataclass

from thresher.model.controller_port import ControllerAnswer, ControllerCommand
from thresher.simulator.physics import Physics

_NOT_THERE, _WRONG = 0xCB, 0xC9
_CELSIUS, _VOLT, _RPM = 1, 4, 18
_TEMPERATURE, _VOLTAGE, _FAN = 0x01, 0x02, 0x04


@dataclass(frozen=True, slots=True)
class _Watched:
    """One sensor: value = m * raw * 10**exponent; thresholds are raw, None where it has none."""

    name: str
    kind: int
    unit: int
    m: int
    exponent: int
    now: Callable[[], float]
    low: int | None
    high: int | None


class SimulatedController:
    """Watches the die, a rail and both fans; with `slow_fan` its limit of a fan is above what the fan turns."""

    def __init__(self, physics: Physics, slow_fan: bool) -> None:
        """Belong to a machine."""
        state = physics.state
        least = 250 if slow_fan else 4
        self._sensors = (
            _Watched("CPU Temp", _TEMPERATURE, _CELSIUS, 1, 0, lambda: float(state.die_c.max()), None, 105),
            _Watched("P12V", _VOLTAGE, _VOLT, 6, -2, lambda: 12.06, 190, 210),
            _Watched("FAN1", _FAN, _RPM, 60, 0, lambda: state.cpu_fan_rpm, least, None),
            _Watched("FAN2", _FAN, _RPM, 60, 0, lambda: state.case_fan_rpm, 4, None),
        )

    def ask(self, command: ControllerCommand, data: bytes = b"") -> ControllerAnswer:
        """Answer one command."""
        if command is ControllerCommand.RESERVE_RECORDS:
            return ControllerAnswer(0, b"\x34\x12")
        if command is ControllerCommand.GET_RECORD:
            number, offset, count = int.from_bytes(data[2:4], "little"), data[4], data[5]
            if number >= len(self._sensors):
                return ControllerAnswer(_NOT_THERE, b"")
            follows = number + 1 if number + 1 < len(self._sensors) else 0xFFFF
            record = _record(number, self._sensors[number])
            return ControllerAnswer(0, follows.to_bytes(2, "little") + record[offset : offset + count])
        if command is ControllerCommand.SENSOR_READING:
            if not data or not 1 <= data[0] <= len(self._sensors):
                return ControllerAnswer(_NOT_THERE, b"")
            return self._reading(self._sensors[data[0] - 1])
        return ControllerAnswer(0, bytes((0x20, 0x81, 1, 0, 2, 0x1F, 0, 0, 0, 0, 0)))

    def _reading(self, sensor: _Watched) -> ControllerAnswer:
        raw = max(0, min(255, round(sensor.now() / (sensor.m * 10.0**sensor.exponent))))
        state = 0xC0
        if sensor.low is not None and raw <= sensor.low:
            state |= 0x02
        if sensor.high is not None and raw >= sensor.high:
            state |= 0x10
        return ControllerAnswer(0, bytes((raw, 0xC0, state)))

    def close(self) -> None:
        """Nothing is held open."""


def _record(number: int, sensor: _Watched) -> bytes:
    """Return the full sensor record of a sensor."""
    readable = (0x02 if sensor.low is not None else 0) | (0x10 if sensor.high is not None else 0)
    name = sensor.name.encode()
    body = bytearray(43 + len(name))
    body[0:3] = bytes((0x20, 0, number + 1))  # owner, channel and LUN, number
    body[3:8] = bytes((0x07, 1, 0x7F, 0x68, sensor.kind))
    body[8] = 0x01
    body[13] = readable
    body[16] = sensor.unit
    body[19] = sensor.m & 0xFF
    body[20] = sensor.m >> 8 << 6
    body[24] = (sensor.exponent & 0xF) << 4
    body[32] = sensor.high or 0
    body[35] = sensor.low or 0
    body[42] = 0xC0 | len(name)
    body[43:] = name
    return number.to_bytes(2, "little") + bytes((0x51, 0x01, len(body))) + bytes(body)
