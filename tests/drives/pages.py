"""Pages of drives put together by hand from the standards, byte by byte, for tests."""

import struct


def summed(sector: bytearray) -> bytes:
    """Make the bytes of a sector add up to a multiple of 256 by its last one."""
    sector[511] = (256 - sum(sector[:511]) % 256) % 256
    return bytes(sector)


def identify() -> bytes:
    """A 4 TB drive of 512-byte logical and 4096-byte physical sectors, 7200 rpm, at 3 of 6 Gb/s."""
    sector = bytearray(512)
    sector[20:40] = b"WT40-32187  0000    "[1::-1] + b"".join(
        b"WT40-32187  0000    "[at : at + 2][::-1] for at in range(2, 20, 2)
    )
    sector[46:54] = b"".join(b"A1B2C3  "[at : at + 2][::-1] for at in range(0, 8, 2))
    model = b"Tidewater T4 4TB".ljust(40)
    sector[54:94] = b"".join(model[at : at + 2][::-1] for at in range(0, 40, 2))
    words = {
        76: 0b1110,  # 1.5, 3 and 6 Gb/s
        77: 2 << 1,  # now the second of them
        82: 1,  # SMART
        83: 1 << 10,  # 48-bit addresses
        84: 0x4000 | 1 << 5 | 0b11,  # general purpose logs, self-tests, error log
        85: 1,
        100: 0x0E3A,
        101: 0xBEEF,
        102: 0x1,
        106: 0x4000 | 1 << 13 | 3,  # 2 to the 3rd logical sectors a physical one
        108: 0x5000,
        109: 0xC500,
        110: 0xABCD,
        111: 0xEF01,
        217: 7200,
    }
    for word, value in words.items():
        sector[2 * word : 2 * word + 2] = struct.pack("<H", value)
    sector[510] = 0xA5
    return summed(sector)


def smart_data(*attributes: tuple[int, int, int, bytes], test: int = 0) -> bytes:
    """SMART data with attributes of number, value, worst, six raw bytes; flags say early warning for number 5."""
    sector = bytearray(512)
    for place, (number, value, worst, raw) in enumerate(attributes):
        at = 2 + 12 * place
        sector[at] = number
        sector[at + 1] = 0x33 if number == 5 else 0x32
        sector[at + 3], sector[at + 4] = value, worst
        sector[at + 5 : at + 11] = raw
    sector[363] = test
    sector[372], sector[373] = 2, 0xFF
    sector[375:377] = struct.pack("<H", 612)
    return summed(sector)


def thresholds(**by_number: int) -> bytes:
    """Thresholds by number, given as `a5=10`."""
    sector = bytearray(512)
    for place, (name, value) in enumerate(by_number.items()):
        sector[2 + 12 * place], sector[3 + 12 * place] = int(name[1:]), value
    return summed(sector)


def nvme_controller() -> bytes:
    """A controller with self-tests of 40 minutes and a warning temperature of 77 °C."""
    page = bytearray(4096)
    page[4:24] = b"SL3K-004417".ljust(20)
    page[24:64] = b"Slipway N3 1TB".ljust(40)
    page[64:72] = b"2B0     "
    page[80:84] = bytes((0, 4, 1, 0))  # 1.4.0
    page[256] = 1 << 4
    page[260] = 0b0000_0101  # two slots, the first one read-only
    page[266:270] = struct.pack("<HH", 350, 358)
    page[280:288] = struct.pack("<Q", 1_000_204_886_016)
    page[316] = 40
    page[516] = 1
    return bytes(page)


def nvme_health(**changed: int) -> bytes:
    """A healthy log, with bytes or quadwords changed by offset, given as `b3=5` or `q160=2`."""
    page = bytearray(512)
    page[1:3] = struct.pack("<H", 311)
    page[3:6] = bytes((100, 10, 3))
    page[32:40] = struct.pack("<Q", 2_000_000)
    page[128:136] = struct.pack("<Q", 4021)
    page[200:204] = struct.pack("<HH", 318, 0)
    for name, value in changed.items():
        at = int(name[1:])
        page[at : at + (1 if name[0] == "b" else 8)] = value.to_bytes(1 if name[0] == "b" else 8, "little")
    return bytes(page)
