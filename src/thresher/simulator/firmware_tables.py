"""SMBIOS structure table of a simulated machine, written byte by byte (DMTF DSP0134 3.x, section 7)."""

import struct

from thresher.simulator.scenario import ModuleSpec, Scenario


def _structure(kind: int, handle: int, body: bytes, *strings: str) -> bytes:
    """One structure: header, formatted area, then the string set, each ended by NUL and the set by another."""
    text = b"".join(string.encode() + b"\0" for string in strings) or b"\0"
    return struct.pack("<BBH", kind, 4 + len(body), handle) + body + text + b"\0"


def _memory_device(slot: str, module: ModuleSpec | None) -> bytes:
    """Type 17 up to the configured voltage of version 2.8 (40 bytes)."""
    size_mb = module.size_gib * 1024 if module else 0
    short_size = size_mb if size_mb < 0x7FFF else 0x7FFF
    return struct.pack(
        "<HHHHHBBBBBHHBBBBBIHHHH",
        0x1000,
        0xFFFE,
        64 if module else 0,
        64 if module else 0,
        short_size,
        9,
        0,
        1,
        2,
        34 if module else 2,
        0x0080,
        module.rated_mts if module else 0,
        3 if module else 0,
        5 if module and module.serial else 0,
        0,
        4 if module else 0,
        1 if module else 0,
        size_mb if short_size == 0x7FFF else 0,
        module.configured_mts if module else 0,
        1100,
        1100,
        1100,
    )


def _memory_array(scenario: Scenario) -> bytes:
    """Type 16, the board's memory array (7.17), and type 19, the addresses that it is mapped to (7.20)."""
    total_kib = sum(module.size_gib for module in scenario.modules) << 20
    array = struct.pack("<BBBIHH", 3, 3, 3, 0x80000000, 0xFFFE, len(scenario.board.slots))
    wide = total_kib * 1024 - 1
    mapped = struct.pack("<IIHBQQ", 0xFFFFFFFF, 0xFFFFFFFF, 0x1000, 1, 0, wide)
    return _structure(16, 0x1000, array + struct.pack("<Q", wide + 1)) + _structure(19, 0x1300, mapped)


def _mapped_module(index: int, slot: int, low: int, high: int, interleaved: bool) -> bytes:
    """Type 20, the addresses of one module (7.21); interleaved ones all claim the whole range."""
    body = struct.pack(
        "<IIHHBBBQQ",
        0xFFFFFFFF,
        0xFFFFFFFF,
        0x1100 + slot,
        0x1300,
        1,
        index + 1 if interleaved else 0,
        1 if interleaved else 0,
        low,
        high,
    )
    return _structure(20, 0x1400 + index, body)


def _mapped_modules(scenario: Scenario) -> bytes:
    table, begin, gib = b"", 0, 1 << 30
    total = sum(module.size_gib for module in scenario.modules) * gib
    interleaved = scenario.interleaved and len(scenario.modules) > 1
    for index, module in enumerate(scenario.modules):
        end = begin + module.size_gib * gib
        low, high = (0, total - 1) if interleaved else (begin, end - 1)
        slot = scenario.board.slots.index(module.slot)
        table += _mapped_module(index, slot, low, high, interleaved)
        begin = end
    return table


def smbios_table(scenario: Scenario) -> bytes:
    """Return the content of `/sys/firmware/dmi/tables/DMI`."""
    board = scenario.board
    table = _structure(
        0,
        0x0000,
        struct.pack(
            "<BBHBBQBBBBBB", 1, 2, 0xF000, 3 if board.firmware_date else 0, 0xFF, 0x08, 0, 0, 5, 27, 0xFF, 0xFF
        ),
        board.firmware_maker,
        board.firmware_version,
        *filter(None, (board.firmware_date,)),
    )
    table += _structure(
        1, 0x0001, struct.pack("<BBBB16sBBB", 1, 2, 0, 0, bytes(16), 6, 0, 0), board.maker, scenario.machine
    )
    table += _structure(
        2,
        0x0002,
        struct.pack("<BBBBB", 1, 2, 0, 3 if board.serial else 0, 0),
        board.maker,
        board.name,
        *filter(None, (board.serial,)),
    )
    fitted = {module.slot: module for module in scenario.modules}
    for index, slot in enumerate(board.slots):
        module = fitted.get(slot)
        strings = [slot, f"BANK {index}"]
        strings += filter(None, (module.maker, module.part_number, module.serial)) if module else ()
        table += _structure(17, 0x1100 + index, _memory_device(slot, module), *strings)
    table += _memory_array(scenario) + _mapped_modules(scenario)
    return table + _structure(127, 0xFEFF, b"")
