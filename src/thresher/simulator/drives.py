"""Simulated drives: they answer commands with pages laid out as the standards have them (ACS-4, NVMe 1.4).

Written from the standards on their own: nothing here is shared with what reads these pages.
"""

import struct
from collections.abc import Callable
from dataclasses import replace

from thresher.model.drive_commands import (
    AtaAnswer,
    AtaCommand,
    DrivePort,
    NoAnswer,
    NvmeCommand,
    OpticalCommand,
    ScsiCommand,
)
from thresher.model.errors import SourceUnavailable
from thresher.simulator.drive_work import EXTENDED_MINUTES, SHORT_MINUTES, DriveState
from thresher.simulator.scenario import DriveSpec

_SECTOR = 512
_KELVIN = 273


class SimulatedDrive(DrivePort):
    """One drive of a scenario, as it is by now."""

    def __init__(self, state: DriveState, path: str) -> None:
        """Answer as `state` has it."""
        self._state, self._path = state, path

    @property
    def _spec(self) -> DriveSpec:
        state = self._state
        return replace(
            state.spec,
            pending=tuple(state.pending),
            reallocated=state.reallocated,
            link_crc=state.link_crc,
            idle_c=round(state.warm_c, 1),
        )

    def close(self) -> None:
        """Nothing is held open."""

    def ata(self, command: AtaCommand) -> AtaAnswer:
        """Answer an ATA command."""
        self._check()
        if not self._spec.name.startswith("sd") or self._spec.bridge:
            raise SourceUnavailable(self._path, "it takes no such commands")
        if command is AtaCommand.SMART_STATUS:
            return AtaAnswer(lba=0x2CF400 if self._spec.failing else 0xC24F00)
        if command in _TESTS:
            self._test(_TESTS[command])
            return AtaAnswer()
        if command is AtaCommand.SMART_DATA:
            return AtaAnswer(_smart_data(self._spec, self._state))
        if command in (AtaCommand.EXTENDED_SELF_TEST_LOG, AtaCommand.SELF_TEST_LOG):
            self._state.test_left()
            make_log = _self_tests if command is AtaCommand.EXTENDED_SELF_TEST_LOG else _old_self_tests
            return AtaAnswer(make_log(self._spec, self._state))
        make = _ATA.get(command)
        if make is None:
            raise SourceUnavailable(self._path, "the drive refuses it")
        return AtaAnswer(make(self._spec))

    def nvme(self, command: NvmeCommand) -> bytes:
        """Answer an NVMe admin command."""
        self._check()
        if not self._spec.name.startswith("nvme"):
            raise SourceUnavailable(self._path, "it takes no such commands")
        if command in _TESTS:
            self._test(_TESTS[command])
            return b""
        if command is NvmeCommand.SELF_TEST_LOG:
            return _nvme_self_tests(self._spec, self._state)
        make = _NVME.get(command)
        if make is None:
            raise SourceUnavailable(self._path, "the drive refuses it")
        return make(self._spec)

    def optical(self, command: OpticalCommand) -> bytes:
        """It has no discs."""
        raise SourceUnavailable(self._path, f"{command.name.lower()}: it takes no such commands")

    def read_disc(self, block: int, count: int) -> bytes:
        """It has no discs."""
        raise SourceUnavailable(self._path, f"reading {count} blocks from {block}: it takes no such commands")

    def scsi(self, command: ScsiCommand) -> bytes:
        """A USB stick answers by SCSI alone, with its temperature at most."""
        self._check()
        if not self._spec.bridge or command is not ScsiCommand.TEMPERATURE:
            raise SourceUnavailable(self._path, "the drive refuses it")
        page = bytes((0, 0, 0x01, 2, 0, int(self._spec.idle_c), 0, 1, 0x01, 2, 0, 70))
        return bytes((0x0D, 0, 0, len(page))) + page

    def _test(self, extended: bool | None) -> None:
        if extended is None:
            self._state.abort_test()
        else:
            self._state.start_test(extended)

    def _check(self) -> None:
        if self._state.gone:
            raise NoAnswer(self._path, "no answer in 15 s")


_TESTS: dict[AtaCommand | NvmeCommand, bool | None] = {
    AtaCommand.SELF_TEST_SHORT: False,
    AtaCommand.SELF_TEST_EXTENDED: True,
    AtaCommand.SELF_TEST_ABORT: None,
    NvmeCommand.SELF_TEST_SHORT: False,
    NvmeCommand.SELF_TEST_EXTENDED: True,
    NvmeCommand.SELF_TEST_ABORT: None,
}
"""Whether a command begins the long test; None: it ends the one that runs."""


# ---- ATA


def _words(text: str, length: int) -> bytes:
    """Return an ATA string: each pair of characters swapped, padded with spaces."""
    padded = text.ljust(length)[:length].encode("ascii")
    swapped = bytearray(padded)
    swapped[0::2], swapped[1::2] = padded[1::2], padded[0::2]
    return bytes(swapped)


def _summed(sector: bytearray) -> bytes:
    """Return a sector whose last byte makes the sum of all of them 0."""
    sector[511] = 0
    sector[511] = -sum(sector) & 0xFF
    return bytes(sector)


def _identify(spec: DriveSpec) -> bytes:
    words = [0] * 256
    words[49] = 0x2F00
    sectors = spec.size_bytes // _SECTOR
    words[60], words[61] = min(sectors, 0x0FFFFFFF) & 0xFFFF, min(sectors, 0x0FFFFFFF) >> 16
    words[76] = 0x000E
    words[77] = {1.5: 1, 3.0: 2, 6.0: 3}[spec.link_gbps] << 1
    words[82], words[83], words[84] = 0x706B, 0x7401, 0x4123
    words[85], words[86], words[87] = 0x7069, 0xB401, 0x4123
    for place in range(4):
        words[100 + place] = sectors >> 16 * place & 0xFFFF
    words[106] = 0x6003  # eight logical sectors in a physical one
    words[108:112] = [0x5000, 0xC500, spec.hours & 0xFFFF, 0x0417]
    words[217] = spec.rotation
    sector = bytearray(struct.pack("<256H", *words))
    sector[20:40] = _words(spec.serial.rjust(20), 20)
    sector[46:54] = _words(spec.firmware, 8)
    sector[54:94] = _words(spec.model, 40)
    sector[510] = 0xA5
    return _summed(sector)


def _attribute_rows(spec: DriveSpec) -> list[tuple[int, int, int, int, int]]:
    """Number, flags, value, threshold and raw count."""
    warm = int(spec.idle_c)
    rows = [
        (5, 0x33, max(1, 100 - spec.reallocated // 10), 10, spec.reallocated),
        (9, 0x32, max(1, 100 - spec.hours // 1000), 0, spec.hours),
        (12, 0x32, 99, 0, spec.power_cycles),
        (187, 0x32, max(1, 100 - spec.media_errors), 0, spec.media_errors),
        (194, 0x22, warm, 0, warm | 24 << 16 | (warm + 14) << 32),
        (197, 0x12, 100, 0, len(spec.pending)),
        (198, 0x10, 100, 0, len(spec.pending)),
        (199, 0x3E, 200, 0, spec.link_crc),
    ]
    return rows if spec.rotation != 1 else [*rows, (231, 0x13, 100 - min(99, spec.used), 10, 100 - min(99, spec.used))]


def _smart_data(spec: DriveSpec, state: DriveState) -> bytes:
    sector = bytearray(_SECTOR)
    sector[0:2] = b"\x10\x00"
    for place, (number, flags, value, _threshold, raw) in enumerate(_attribute_rows(spec)):
        entry = struct.pack("<BHBB", number, flags, value, value) + raw.to_bytes(6, "little") + b"\x00"
        sector[2 + 12 * place : 14 + 12 * place] = entry
    left = state.test_left()
    ended = state.tests[0].state if state.tests else 0
    # a test that runs: Fh, and what is left of it in tens of per cent
    sector[363] = ended << 4 if left is None else 0xF0 | min(9, left // 10)
    sector[367] = 0x5B
    sector[372], sector[373] = SHORT_MINUTES, EXTENDED_MINUTES
    return _summed(sector)


def _smart_thresholds(spec: DriveSpec) -> bytes:
    sector = bytearray(_SECTOR)
    sector[0:2] = b"\x10\x00"
    for place, (number, _flags, _value, threshold, _raw) in enumerate(_attribute_rows(spec)):
        sector[2 + 12 * place : 4 + 12 * place] = bytes((number, threshold))
    return _summed(sector)


def _first_bad(spec: DriveSpec) -> int:
    return spec.failed_test_lba if spec.failed_test_lba is not None else (spec.pending or (0,))[0]


def _self_tests(spec: DriveSpec, state: DriveState) -> bytes:
    """The extended log: 26 bytes a test in a ring, the newest at the index in byte 2."""
    sector = bytearray(_SECTOR)
    sector[0] = 1
    kept = list(reversed(state.tests[:19]))
    sector[2] = len(kept)
    for number, test in enumerate(kept):
        place = _first_bad(spec) if test.state == 7 else 0xFFFF_FFFF_FFFF
        entry = struct.pack("<BBHB", 1 + test.extended, test.state << 4, test.hours, 0) + place.to_bytes(6, "little")
        sector[4 + 26 * number : 30 + 26 * number] = entry + bytes(15)
    return _summed(sector)


def _old_self_tests(spec: DriveSpec, state: DriveState) -> bytes:
    """The log of 28-bit drives: 24 bytes a test in a ring, the newest at the index in byte 508."""
    sector = bytearray(_SECTOR)
    sector[0:2] = b"\x01\x00"
    kept = list(reversed(state.tests[:21]))
    sector[508] = len(kept)
    for number, test in enumerate(kept):
        place = min(_first_bad(spec), 0xFFFF_FFFE) if test.state == 7 else 0xFFFF_FFFF
        entry = struct.pack("<BBHBI", 1 + test.extended, test.state << 4, test.hours, 0, place)
        sector[2 + 24 * number : 26 + 24 * number] = entry + bytes(15)
    return _summed(sector)


def _errors(spec: DriveSpec) -> bytes:
    sector = bytearray(_SECTOR)
    sector[0] = 1
    if spec.pending:
        sector[2] = 1
        lba = spec.pending[0].to_bytes(6, "little")
        command = bytearray(18)
        command[11], command[12] = 0x40, 0x60  # READ FPDMA QUEUED
        error = bytearray(34)
        error[1], error[11] = 0x40, 0x41
        error[4], error[6], error[8], error[5], error[7], error[9] = lba
        error[32:34] = struct.pack("<H", spec.hours - 2)
        sector[4:128] = bytes(72) + command + error
        sector[500] = len(spec.pending)
    return _summed(sector)


def _statistic(value: int) -> bytes:
    return (0xC0 << 56 | value).to_bytes(8, "little")


def _statistics_page(number: int, places: dict[int, int]) -> bytes:
    sector = bytearray(_SECTOR)
    sector[0:3] = bytes((1, 0, number))
    for at, value in places.items():
        sector[at : at + 8] = _statistic(value)
    return bytes(sector)


def _statistics_list(_spec: DriveSpec) -> bytes:
    sector = bytearray(_SECTOR)
    sector[0:3] = b"\x01\x00\x00"
    sector[8:16] = bytes((7, 0, 1, 3, 4, 5, 6, 7))
    return bytes(sector)


def _pending(spec: DriveSpec) -> bytes:
    sector = bytearray(_SECTOR)
    sector[0:4] = struct.pack("<I", len(spec.pending))
    for place, lba in enumerate(spec.pending[:31]):
        sector[16 + 16 * place : 32 + 16 * place] = struct.pack("<IIQ", spec.hours, 0, lba)
    return bytes(sector)


def _link_counters(spec: DriveSpec) -> bytes:
    sector = bytearray(_SECTOR)
    counters = struct.pack("<HHHIHI", 0x1001, min(spec.link_crc, 0xFFFF), 0x200A, 3, 0x2009, 2)
    sector[4 : 4 + len(counters)] = counters
    return _summed(sector)


_ATA: dict[AtaCommand, Callable[[DriveSpec], bytes]] = {
    AtaCommand.IDENTIFY: _identify,
    AtaCommand.SMART_THRESHOLDS: _smart_thresholds,
    AtaCommand.EXTENDED_ERROR_LOG: _errors,
    AtaCommand.STATISTICS_PAGES: _statistics_list,
    AtaCommand.STATISTICS_GENERAL: lambda spec: _statistics_page(1, {8: spec.power_cycles, 16: spec.hours}),
    AtaCommand.STATISTICS_ROTATING: lambda spec: _statistics_page(3, {32: spec.reallocated, 56: len(spec.pending)}),
    AtaCommand.STATISTICS_ERRORS: lambda spec: _statistics_page(4, {8: spec.media_errors, 16: 0}),
    AtaCommand.STATISTICS_TEMPERATURE: lambda spec: _statistics_page(
        5, {8: int(spec.idle_c), 32: int(spec.idle_c) + 14}
    ),
    AtaCommand.STATISTICS_TRANSPORT: lambda spec: _statistics_page(6, {8: 40, 24: spec.link_crc}),
    AtaCommand.STATISTICS_SOLID_STATE: lambda spec: _statistics_page(7, {8: spec.used}),
    AtaCommand.PENDING_DEFECTS: _pending,
    AtaCommand.LINK_COUNTERS: _link_counters,
}


# ---- NVMe


def _controller(spec: DriveSpec) -> bytes:
    page = bytearray(4096)
    page[4:24] = spec.serial.ljust(20).encode("ascii")[:20]
    page[24:64] = spec.model.ljust(40).encode("ascii")[:40]
    page[64:72] = spec.firmware.ljust(8).encode("ascii")[:8]
    page[80:84] = struct.pack("<I", 0x0001_0400)
    page[256:258] = struct.pack("<H", 0x0017)  # security, format, firmware and self-test commands
    page[260] = 0x06  # three firmware slots
    page[262] = 15
    page[266:270] = struct.pack("<HH", 82 + _KELVIN, 85 + _KELVIN)
    page[280:296] = spec.size_bytes.to_bytes(16, "little")
    page[316:318] = struct.pack("<H", EXTENDED_MINUTES)
    page[322] = 1  # it can be set to slow itself down
    page[324:328] = struct.pack("<HH", _KELVIN, 80 + _KELVIN)
    page[516:520] = struct.pack("<I", 1)
    return bytes(page)


def _namespace(spec: DriveSpec) -> bytes:
    page = bytearray(4096)
    blocks = spec.size_bytes // _SECTOR
    page[0:24] = struct.pack("<QQQ", blocks, blocks, blocks)
    page[128:132] = struct.pack("<HBB", 0, 9, 0)
    return bytes(page)


def _health(spec: DriveSpec) -> bytes:
    page = bytearray(512)
    page[0] = (spec.spare < 10) | spec.failing << 2
    page[1:3] = struct.pack("<H", int(spec.idle_c) + _KELVIN)
    page[3:6] = bytes((spec.spare, 10, min(255, spec.used)))
    for at, value in (
        (32, 9_100_000),
        (48, 7_400_000),
        (112, spec.power_cycles),
        (128, spec.hours),
        (144, spec.unsafe_shutdowns),
        (160, spec.media_errors),
        (176, spec.media_errors),
    ):
        page[at : at + 16] = value.to_bytes(16, "little")
    page[200:202] = struct.pack("<H", int(spec.idle_c) + 6 + _KELVIN)
    return bytes(page)


def _nvme_errors(spec: DriveSpec) -> bytes:
    page = bytearray(64 * 16)
    for place, lba in enumerate(spec.pending[:16]):
        at = 64 * place
        # unrecovered read error: status code type 2, code 81h, shifted past the phase bit
        page[at : at + 28] = struct.pack("<QHHHHQI", len(spec.pending) - place, 1, 0, 0x0281 << 1, 0, lba, 1)
    return bytes(page)


def _nvme_self_tests(spec: DriveSpec, state: DriveState) -> bytes:
    page = bytearray(564)
    left = state.test_left()
    if left is not None:
        page[0], page[1] = 2 if state.testing else 1, 100 - left
    for place in range(20):
        page[4 + 28 * place] = 0x0F  # never used
    for place, test in enumerate(state.tests[:20]):
        failed = test.state == 7
        status = (2 if test.extended else 1) << 4 | (7 if failed else test.state)
        bad = _first_bad(spec) if failed else 0
        entry = struct.pack("<BBBBQIQBBH", status, 2, 3 if failed else 0, 0, test.hours, 1, bad, 0, 0, 0)
        page[4 + 28 * place : 32 + 28 * place] = entry
    return bytes(page)


def _firmware(spec: DriveSpec) -> bytes:
    page = bytearray(512)
    page[0] = 1
    page[8:16] = spec.firmware.ljust(8).encode("ascii")[:8]
    return bytes(page)


_NVME: dict[NvmeCommand, Callable[[DriveSpec], bytes]] = {
    NvmeCommand.IDENTIFY_CONTROLLER: _controller,
    NvmeCommand.IDENTIFY_NAMESPACE: _namespace,
    NvmeCommand.HEALTH: _health,
    NvmeCommand.ERRORS: _nvme_errors,
    NvmeCommand.FIRMWARE: _firmware,
    NvmeCommand.TEMPERATURE_THRESHOLD: lambda _spec: struct.pack("<HH", 82 + _KELVIN, 0),
    NvmeCommand.THERMAL_MANAGEMENT: lambda _spec: struct.pack("<HH", 80 + _KELVIN, 76 + _KELVIN),
}
