"""What else a machine has, from files as the kernel writes them."""

from pathlib import Path

import pytest

from thresher.inventory.built_in import bits_of, read_built_in
from thresher.machine.bluetooth import parse_info, read_adapter
from thresher.machine.tree import TreeSystem
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import BuiltInKind as Kind

INPUT = """I: Bus=0011 Vendor=0001 Product=0001 Version=ab41
N: Name="AT Translated Set 2 keyboard"
P: Phys=isa0060/serio0/input0
H: Handlers=sysrq kbd event0
B: PROP=0
B: EV=120013
B: KEY=402000000 3803078f800d001 feffffdfffefffff fffffffffffffffe

I: Bus=0018 Vendor=04f3 Product=2a3b Version=0100
N: Name="ELAN Touchscreen"
H: Handlers=mouse1 event5
B: PROP=2
B: EV=1b
B: KEY=400 0 0 0 0 0
B: ABS=3273800000000003

I: Bus=0018 Vendor=06cb Product=cdeb Version=0100
N: Name="SYNA Touchpad"
H: Handlers=mouse2 event6
B: PROP=5
B: EV=1b
B: KEY=e520 10000 0 0 0 0
B: ABS=2e0800000000003

I: Bus=0018 Vendor=056a Product=5164 Version=0100
N: Name="Pen"
H: Handlers=event7
B: PROP=2
B: KEY=1c03 0 0 0 0 0
B: ABS=1000d000003
"""


def tree(folder: Path, files: dict[str, str]) -> TreeSystem:
    for name, text in files.items():
        path = folder / name.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return TreeSystem(folder)


def test_bits_stand_in_words_with_the_highest_first() -> None:
    assert bits_of("1 0") == {64}
    assert bits_of("400 0 0 0 0 0") == {330}
    assert bits_of("8000000000000005") == {0, 2, 63}


def test_a_touch_screen_is_neither_a_pad_nor_a_pen_nor_a_keyboard(tmp_path: Path) -> None:
    found = read_built_in(tree(tmp_path, {"/proc/bus/input/devices": INPUT}))
    assert [(each.kind, each.name) for each in found] == [(Kind.TOUCH, "ELAN Touchscreen")]


@pytest.mark.parametrize(
    ("files", "expected"),
    [
        ({"/sys/class/mmc_host/mmc0/uevent": ""}, [(Kind.CARD_READER, "mmc0")]),
        ({"/sys/class/mmc_host/mmc0/mmc0:0001/type": "MMC\n"}, []),
        ({"/sys/class/mmc_host/mmc1/mmc1:0001/type": "SDIO\n"}, []),
        ({"/sys/class/mmc_host/mmc0/mmc0:aaaa/type": "SD\n"}, [(Kind.CARD_READER, "mmc0")]),
        (
            {"/sys/block/sdb/removable": "1\n", "/sys/block/sdb/size": "0\n", "/sys/block/sdb/device/model": "SD/MMC"},
            [(Kind.CARD_READER, "SD/MMC")],
        ),
        (
            {
                "/sys/block/sdb/removable": "1",
                "/sys/block/sdb/size": "62333952",
                "/sys/block/sdb/device/model": "Stick",
            },
            [],
        ),
        ({"/sys/block/sr0/device/model": "DVD-RW GT50\n", "/sys/block/sda/size": "1"}, [(Kind.OPTICAL, "DVD-RW GT50")]),
        ({"/sys/class/backlight/intel_backlight/brightness": "1"}, [(Kind.BACKLIGHT, "intel_backlight")]),
        (
            {"/sys/class/bluetooth/hci0/uevent": "", "/sys/class/bluetooth/hci0:11/uevent": ""},
            [(Kind.BLUETOOTH, "hci0")],
        ),
        (
            {
                "/sys/class/video4linux/video0/name": "Integrated Camera\n",
                "/sys/class/video4linux/video0/index": "0\n",
                "/sys/class/video4linux/video1/name": "Integrated Camera\n",
                "/sys/class/video4linux/video1/index": "1\n",
            },
            [(Kind.CAMERA, "Integrated Camera")],
        ),
    ],
)
def test_each_kind_is_told_from_what_looks_like_it(
    tmp_path: Path, files: dict[str, str], expected: list[tuple[Kind, str]]
) -> None:
    assert [(each.kind, each.name) for each in read_built_in(tree(tmp_path, files))] == expected


def test_the_state_of_a_bluetooth_adapter_is_read_from_the_kernels_structure() -> None:
    # number 0, "hci0", address last byte first, flags UP|RUNNING, then to the counters at byte 52
    info = bytearray(256)
    info[2:6] = b"hci0"
    info[10:16] = bytes.fromhex("20 07 00 5e 00 02")
    info[16:20] = bytes.fromhex("05000000")
    info[52:60] = bytes.fromhex("03000000 02000000")
    state = parse_info(bytes(info))
    assert (state.address, state.up, state.errors) == ("02:00:5E:00:07:20", True, 5)


def test_an_adapter_that_is_not_there_does_not_answer() -> None:
    try:
        assert read_adapter("hci9") is None
    except SourceUnavailable as error:
        assert error.path == "hci9"  # a kernel without Bluetooth
