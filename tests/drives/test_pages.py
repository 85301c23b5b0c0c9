"""Pages of drives are read as the standards lay them out, and damaged ones are refused."""

import struct

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.drives.pages import identify, nvme_controller, nvme_health, smart_data, summed, thresholds
from thresher.drives import ata, nvme
from thresher.drives.fields import DamagedPage


def test_identify_device() -> None:
    found = ata.parse_identity(identify())
    assert (found.model, found.serial, found.firmware) == ("Tidewater T4 4TB", "WT40-32187  0000", "A1B2C3")
    assert (found.sectors, found.logical, found.physical) == (0x0001_BEEF_0E3A, 512, 4096)
    assert (found.rotation, found.speed_now, found.speed_most) == (7200, 3.0, 6.0)
    assert (found.has_smart, found.smart_on, found.error_log, found.self_tests, found.general_logs) == (True,) * 5
    assert found.wwn == "5000c500abcdef01"


def test_a_drive_of_4096_byte_sectors_and_one_without_48_bit_addresses() -> None:
    sector = bytearray(identify())
    sector[212:214] = struct.pack("<H", 0x4000 | 1 << 12)
    sector[234:238] = struct.pack("<I", 2048)  # words of a logical sector
    sector[166:168] = b"\0\0"
    sector[120:124] = struct.pack("<I", 0x0FFF_FFFF)
    sector[434:436] = struct.pack("<H", 1)
    found = ata.parse_identity(summed(sector))
    assert (found.logical, found.physical, found.sectors, found.rotation) == (4096, 4096, 0x0FFF_FFFF, 1)


def test_smart_attributes_keep_their_raw_bytes_and_long_tests_their_time() -> None:
    raw = bytes((38, 0, 24, 0, 52, 0))
    found = ata.parse_smart(smart_data((194, 62, 48, raw), (5, 100, 100, b"\x0c\0\0\0\0\0"), test=0x79))
    assert [(each.number, each.value, each.worst, each.raw) for each in found.attributes] == [
        (194, 62, 48, raw),
        (5, 100, 100, b"\x0c\0\0\0\0\0"),
    ]
    assert [each.early_warning for each in found.attributes] == [False, True]
    assert (found.test_state, found.test_left) == (7, 90)
    assert (found.short_minutes, found.extended_minutes) == (2, 612)
    assert ata.parse_thresholds(thresholds(a5=10, a194=0)) == {5: 10, 194: 0}


def test_return_status() -> None:
    assert ata.threshold_exceeded(0x00C2_4F00) is False
    assert ata.threshold_exceeded(0x002C_F400) is True
    assert ata.threshold_exceeded(0) is None


def test_the_self_test_log_is_a_ring_read_newest_first() -> None:
    sector = bytearray(512)
    sector[0] = 1
    entries = {
        20: struct.pack("<BBHBI", 1, 0x00, 900, 0, 0xFFFF_FFFF),  # the last place of the ring: passed
        0: struct.pack("<BBHBI", 2, 0x75, 1000, 0, 123_456),  # the first one, newer: failed reading
    }
    for place, entry in entries.items():
        sector[2 + 24 * place : 2 + 24 * place + 9] = entry
    sector[508] = 1
    tests = ata.parse_self_tests(summed(sector))
    assert [(each.kind, each.state, each.hours, each.lba) for each in tests] == [
        ("extended", ata.SelfTestState.FAILED_READ, 1000, 123_456),
        ("short", ata.SelfTestState.PASSED, 900, None),
    ]


def test_the_extended_self_test_log_has_48_bit_places() -> None:
    sector = bytearray(512)
    sector[2] = 2
    sector[4:16] = struct.pack("<BBHB", 2, 0x00, 10, 0) + b"\xff" * 6 + b"\0"
    sector[30:42] = struct.pack("<BBHB", 2, 0x70, 20, 0) + (0x0001_2345_6789).to_bytes(6, "little") + b"\0"
    first, second = ata.parse_extended_self_tests(summed(sector))
    assert (first.hours, first.lba, first.state.failed) == (20, 0x0001_2345_6789, True)
    assert (second.hours, second.lba, second.state.failed) == (10, None, False)


def test_errors_say_whether_the_sector_or_the_link_failed() -> None:
    sector = bytearray(512)
    sector[1] = 2
    first, second = 2, 92
    sector[first + 60 + 1], sector[first + 60 + 7] = 0x84, 0x51  # interface CRC, aborted
    sector[first + 60 + 28 : first + 60 + 30] = struct.pack("<H", 100)
    sector[first + 48 + 7] = 0xC8
    sector[second + 60 + 1], sector[second + 60 + 7] = 0x40, 0x51
    sector[second + 60 + 3 : second + 60 + 7] = bytes((0x78, 0x56, 0x34, 0xE2))
    sector[second + 60 + 28 : second + 60 + 30] = struct.pack("<H", 200)
    sector[452:454] = struct.pack("<H", 7)
    log = ata.parse_error_log(summed(sector))
    assert log.count == 7
    newest, older = log.errors
    assert (newest.unreadable, newest.link, newest.lba, newest.hours) == (True, False, 0x0234_5678, 200)
    assert (older.unreadable, older.link, older.command, older.hours) == (False, True, 0xC8, 100)


def test_extended_errors_have_their_address_in_the_order_of_the_standard() -> None:
    sector = bytearray(512)
    sector[2] = 1
    at = 4
    sector[at + 72 + 12] = 0x60
    error = at + 90
    sector[error + 1], sector[error + 11] = 0x40, 0x41
    # LBA 0x060504030201: bytes 7:0, 31:24, 15:8, 39:32, 23:16, 47:40
    sector[error + 4 : error + 10] = bytes((0x01, 0x04, 0x02, 0x05, 0x03, 0x06))
    sector[error + 32 : error + 34] = struct.pack("<H", 4000)
    sector[500] = 1
    (found,) = ata.parse_extended_error_log(summed(sector)).errors
    assert (found.lba, found.command, found.hours) == (0x0605_0403_0201, 0x60, 4000)


def test_statistics_count_only_where_the_drive_says_they_do() -> None:
    def page(number: int, **at: tuple[int, int]) -> bytes:
        sector = bytearray(512)
        sector[2] = number
        for name, (flags, value) in at.items():
            place = int(name[1:])
            sector[place : place + 8] = struct.pack("<Q", value | flags << 56)
        return bytes(sector)

    pages = {
        1: page(1, a16=(0xC0, 31277), a24=(0x80, 5)),  # supported, but not valid now
        3: page(3, a32=(0xC0, 12), a56=(0xC0, 3)),
        4: page(4, a8=(0x00, 9)),
        5: page(5, a8=(0xC0, 0xF6), a32=(0xC0, 52)),  # minus ten degrees
        6: page(6, a24=(0xC0, 44)),
        7: bytes(512),  # the drive does not keep it
    }
    found = ata.parse_statistics(pages)
    assert (found.hours, found.sectors_written, found.reallocated, found.candidates) == (31277, None, 12, 3)
    assert (found.uncorrectable, found.temperature_c, found.highest_c) == (None, -10, 52)
    assert (found.link_crc, found.used) == (44, None)


def test_link_counters_have_their_length_in_their_name() -> None:
    sector = bytearray(512)
    body = struct.pack("<HHHIH", 0x1001, 44, 0x200A, 70_000, 0)
    sector[4 : 4 + len(body)] = body
    assert ata.parse_link_counters(summed(sector)) == {1: 44, 0x00A: 70_000}


def test_pending_defects_are_counted_and_listed() -> None:
    sector = bytearray(512)
    sector[0] = 2
    sector[16:32] = struct.pack("<IIQ", 31000, 0, 81920)
    sector[32:48] = struct.pack("<IIQ", 31001, 0, 81928)
    assert ata.parse_pending(bytes(sector)) == (2, (81920, 81928))


def test_nvme_controller_and_health() -> None:
    controller = nvme.parse_controller(nvme_controller())
    assert (controller.model, controller.serial, controller.version) == ("Slipway N3 1TB", "SL3K-004417", "1.4")
    assert (controller.warning_c, controller.critical_c) == (77, 85)
    assert (controller.self_tests, controller.extended_minutes, controller.firmware_slots) == (True, 40, 2)
    assert controller.capacity == 1_000_204_886_016
    health = nvme.parse_health(nvme_health(b0=0b1001, q160=2, q144=7))
    assert (health.spare_low, health.read_only, health.degraded) == (True, True, False)
    assert (health.temperature_c, health.spare, health.spare_threshold, health.used) == (38, 100, 10, 3)
    assert (health.bytes_read, health.hours) == (1_024_000_000_000, 4021)
    assert (health.media_errors, health.unsafe_shutdowns, health.sensors_c) == (2, 7, (45,))


def test_what_an_nvme_drive_is_set_to_do_when_hot() -> None:
    # 355 K in the low half; kind and sensor of the threshold above it
    assert nvme.parse_temperature_threshold(bytes.fromhex("63 01 00 00")) == 82
    assert nvme.parse_temperature_threshold(bytes.fromhex("ff ff 00 00")) is None
    # heavy throttling from 353 K in the low half, light from 349 K above it
    assert nvme.parse_thermal_management(bytes.fromhex("61 01 5d 01")) == (76, 80)
    assert nvme.parse_thermal_management(bytes(4)) == (None, None)


def test_the_nvme_self_test_log() -> None:
    page = bytearray(564)
    page[0], page[1] = 2, 37
    for place in range(20):
        page[4 + 28 * place] = 0x0F
    page[4] = 0x27  # extended, completed with a failed segment
    page[5], page[6] = 3, 0b11
    page[8:16] = struct.pack("<Q", 4018)
    page[20:28] = struct.pack("<Q", 81920)
    log = nvme.parse_self_tests(bytes(page))
    assert (log.running, log.done) == ("extended", 37)
    (test,) = log.tests
    assert (test.extended, test.result, test.hours, test.lba, test.segment) == (
        True,
        nvme.SelfTestResult.FAILED,
        4018,
        81920,
        3,
    )


def test_nvme_errors_carry_their_status_without_the_phase_bit() -> None:
    page = bytearray(128)
    page[0:28] = struct.pack("<QHHHHQI", 5, 1, 9, 0x0281 << 1 | 1, 0, 81920, 1)
    (entry,) = nvme.parse_errors(bytes(page))
    assert (entry.count, entry.status, entry.lba, entry.namespace) == (5, 0x281, 81920, 1)


@pytest.mark.parametrize(
    "parse",
    [
        ata.parse_identity,
        ata.parse_smart,
        ata.parse_thresholds,
        ata.parse_self_tests,
        ata.parse_extended_self_tests,
        ata.parse_error_log,
        ata.parse_extended_error_log,
        ata.parse_link_counters,
        ata.parse_pending,
        nvme.parse_controller,
        nvme.parse_namespace,
        nvme.parse_health,
        nvme.parse_errors,
        nvme.parse_self_tests,
        nvme.parse_firmware,
    ],
)
@settings(max_examples=150)
@given(data=st.one_of(st.binary(max_size=700), st.binary(min_size=512, max_size=512).map(bytearray).map(summed)))
def test_any_bytes_are_a_page_or_refused_in_words(parse: object, data: bytes) -> None:
    try:
        parse(data)  # type: ignore[operator]
    except DamagedPage as error:
        assert "expected" in str(error) or "checksum" in str(error)


def test_a_turned_bit_in_a_summed_page_is_noticed() -> None:
    whole = bytearray(smart_data((5, 100, 100, b"\0" * 6)))
    whole[40] ^= 4
    with pytest.raises(DamagedPage, match="its checksum is wrong"):
        ata.parse_smart(bytes(whole))
