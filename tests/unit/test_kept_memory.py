"""How much memory no check reaches, from the map that firmware gave: worked out by hand."""

from collections.abc import Callable
from pathlib import Path

from thresher.inventory.memory_map import kept_memory
from thresher.machine.tree import TreeSystem

WriteTree = Callable[[dict[str, str | bytes]], Path]

MIB = 1 << 20
RANGES = (
    (0x0, 0x9FBFF, "System RAM"),  # 639 KiB
    (0x9FC00, 0x9FFFF, "Reserved"),  # 1 KiB
    (0xF0000, 0xFFFFF, "Reserved"),  # 64 KiB
    (0x100000, 0x7FFDFFFF, "System RAM"),  # 2047 MiB less 128 KiB
    (0x7FFE0000, 0x7FFFFFFF, "ACPI Tables"),  # 128 KiB
    (0xFEFFC000, 0xFEFFFFFF, "Reserved"),  # a window below 4 GiB
    (0x100000000, 0x13FFFFFFF, "System RAM"),  # 1024 MiB
    (0xFD00000000, 0xFFFFFFFFFF, "Reserved"),  # beyond all memory
)


def firmware_map() -> dict[str, str | bytes]:
    files: dict[str, str | bytes] = {}
    for number, (low, high, kind) in enumerate(RANGES):
        folder = f"/sys/firmware/memmap/{number}"
        files |= {f"{folder}/start": f"{low:#x}\n", f"{folder}/end": f"{high:#x}\n", f"{folder}/type": f"{kind}\n"}
    return files


def test_what_firmware_and_kernel_keep_is_said(write_tree: WriteTree) -> None:
    # usable: 654,336 + (2,147,352,576 - 1,048,576) + 1,073,741,824 bytes = 3,220,700,160; given out: 3,000,000 KiB
    system = TreeSystem(write_tree(firmware_map() | {"/proc/meminfo": "MemTotal:        3000000 kB\n"}))
    # firmware: 1 + 64 + 128 + 16 KiB; kernel: 3,220,700,160 - 3,072,000,000 = 148,700,160 bytes
    assert kept_memory(system) == (
        "not testable: 209 KiB reserved by firmware, 142 MiB used by kernel and boot loader (639 KiB of it below 1 MiB)"
    )


def test_without_the_map_nothing_is_claimed(write_tree: WriteTree) -> None:
    assert kept_memory(TreeSystem(write_tree({"/proc/meminfo": "MemTotal:        3000000 kB\n"}))) == ""
    damaged = firmware_map() | {"/sys/firmware/memmap/0/start": "nonsense\n"}
    assert kept_memory(TreeSystem(write_tree(damaged))) == ""
