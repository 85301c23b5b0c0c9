"""A hundred thousand requests of every kind: what is carried out is on the list, written down here by hand."""

import os
import random
import re
import socket
import string
import struct
from itertools import count
from pathlib import Path
from typing import Any

import pytest
from jeepney import DBusAddress, HeaderFields, Message, MessageType, new_method_call, new_method_return

from thresher.privileged import requests, restart_unit, served
from thresher.privileged.allowlist import BUS_NAME, INTERFACE, OBJECT, Right
from thresher.privileged.drive_lists import NvmeRegisters
from thresher.privileged.drive_sending import RawAnswer
from thresher.privileged.requests import Places
from thresher.privileged.service import Helper, began_and_group

# what docs/security.md lists, in words of this test's own
MAY_OPEN = re.compile(
    r"/dev/kmsg|/sys/firmware/dmi/tables/(DMI|smbios_entry_point)"
    r"|/sys/class/dmi/id/(product_serial|board_serial|chassis_serial|product_uuid)"
    r"|/sys/firmware/acpi/tables/(data/)?[A-Z0-9]{4}[0-9]{0,2}"
    r"|/sys/class/powercap/[a-z-]+:[0-9:]+/energy_uj"
    r"|/sys/fs/pstore/[^/]+|/var/lib/systemd/pstore/[^/]+(/[^/]+){0,2}"
    r"|/dev/sd[a-z]+|/dev/nvme[0-9]+(n[0-9]+)?|/dev/mmcblk[0-9]+|/dev/watchdog[0-9]+"
    r"|/var/lib/systemd/pstore|/sys/fs/pstore|/dev/cpu/[0-9]+/msr"
)
PIECES = (
    *("/", ".", "..", "//", "%00", "\n", "\0", "é", "../", "~", "$", "sda", "sda1", "sdaaaa", "nvme0", "nvme0n1"),
    *("nvme0n1p1", "mmcblk0", "loop0", "dm-0", "mem", "kmsg", "port"),
    "/dev/", "/sys/", "/proc/", "/etc/shadow", "/sys/firmware/dmi/tables/", "DMI", "/sys/fs/pstore/", "dmesg-1",
    "/sys/class/powercap/", "intel-rapl:0", "/energy_uj", "/var/lib/systemd/pstore/", "/sys/firmware/acpi/tables/",
    "BERT", "/dev/watchdog0", "/dev/cpu/0/msr", "x" * 700,
)  # fmt: skip

NEAR = (
    "/sys/firmware/dmi/tables/DMI",
    "/sys/class/dmi/id/board_serial",
    "/sys/firmware/acpi/tables/data/BERT",
    "/sys/class/powercap/intel-rapl:0:1/energy_uj",
    "/sys/fs/pstore/dmesg-erst-7",
    "/var/lib/systemd/pstore/176/001/dmesg.txt",
    "/dev/kmsg",
    "/dev/sda",
    "/dev/nvme0",
    "/dev/nvme0n1",
    "/dev/mmcblk0",
    "/dev/watchdog0",
    "/sys/fs/pstore",
    "/home/mara/job.thresher",
)
"""What is on the list, to be changed by a character or two."""


class _Bus:
    """Keeps what is sent; answers who asks and what polkit says at once, as the helper waits for it."""

    def __init__(self) -> None:
        self.sock, self._other = socket.socketpair()
        self.outgoing_serial = count(1)
        self.questions: list[tuple[int, Message]] = []
        self.refused = self.answered = 0

    def close(self) -> None:
        self.sock.close()
        self._other.close()

    def send(self, message: Message, serial: int | None = None) -> None:
        if message.header.message_type is MessageType.method_call:
            assert serial is not None
            self.questions.append((serial, message))
        elif message.header.message_type is MessageType.error:
            self.refused += 1
        else:
            self.answered += 1


def _argument(chance: random.Random) -> Any:
    kind = chance.randrange(9)
    if kind < 3:
        near = list(chance.choice(NEAR))
        for _ in range(chance.randrange(3)):
            near[chance.randrange(len(near))] = chance.choice(("", "/", ".", "0", "a", "\n", "é", "..", near[0]))
        return "".join(near)
    if kind < 6:
        return "".join(chance.choice(PIECES) for _ in range(chance.randrange(1, 5)))
    if kind == 6:
        return "".join(chance.choice(string.printable) for _ in range(chance.randrange(40)))
    return chance.choice((0, 1, 60, 2**31, 2**32 - 1))


def _reply_to(serial: int, question: Message, body: tuple[Any, ...], form: str) -> Message:
    question.header.serial = serial
    return new_method_return(question, form, body)


@pytest.fixture
def carried_out(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> tuple[list[str], list[str]]:
    """Paths that were opened and units that were installed; nothing is really done."""
    opened: list[str] = []
    installed: list[str] = []

    def watched_open(path: Any, flags: int, *_more: Any, **_by_name: Any) -> int:
        text = str(path)
        assert text.startswith(str(tmp_path)), f"outside the tree: {text}"
        opened.append(text.removeprefix(str(tmp_path)))
        assert not flags & (os.O_RDWR | os.O_CREAT | os.O_TRUNC), text
        assert not flags & os.O_WRONLY or "watchdog" in text, text
        raise FileNotFoundError(2, "nothing is really opened here")

    def install(text: str, units: Path) -> Path:
        installed.append(text)
        return units / "unit"

    def in_this_process(serve: served.Serve, _others: tuple[int, ...]) -> tuple[int, socket.socket]:
        mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        theirs.shutdown(socket.SHUT_WR)  # nobody asks anything over it
        with mine:
            serve(mine)
        return 1, theirs

    monkeypatch.setattr(restart_unit, "install", install)
    monkeypatch.setattr(restart_unit, "remove", lambda units: [])
    monkeypatch.setattr(served, "in_own_process", in_this_process)
    monkeypatch.setattr(served, "keep_only", lambda *_rights: None)  # this process goes on
    monkeypatch.setattr("thresher.privileged.requests.os.open", watched_open)  # one os for all modules
    monkeypatch.setattr("thresher.privileged.requests.os.listdir", lambda _path: [])
    return opened, installed


def test_a_hundred_thousand_requests_do_nothing_that_is_not_listed(
    tmp_path: Path, carried_out: tuple[list[str], list[str]], capsys: pytest.CaptureFixture[str]
) -> None:
    opened, installed = carried_out
    bus = _Bus()
    helper = Helper(bus, Places(tmp_path, tmp_path / "units", (tmp_path / "tracing",)))
    chance = random.Random(21)
    address = DBusAddress(OBJECT, BUS_NAME, INTERFACE)
    members = [*requests.METHODS, "Allowed", "OpenAnything", "Write", "", "openfile", "OpenFile2"]
    forms = ("s", "", "su", "ss", "u", "sss", "as", "v", "h")
    credentials = {"UnixUserID": ("u", os.getuid()), "ProcessID": ("u", os.getpid())}
    began_and_group(os.getpid())
    for _ in range(100_000):
        member = chance.choice(members)
        known = requests.METHODS.get(member)
        form = known.form if known is not None and chance.random() < 0.8 else chance.choice(forms)
        body = tuple(_argument(chance) if each == "s" else 60 for each in form)
        call = new_method_call(address, member or "x", form or None, body)
        call.header.fields[HeaderFields.sender] = ":1.9"
        call.header.serial = 7
        helper.take(call)
        while bus.questions:
            serial, question = bus.questions.pop()
            if question.header.fields[HeaderFields.member] == "GetConnectionCredentials":
                helper.take(_reply_to(serial, question, (credentials,), "a{sv}"))
            else:
                helper.take(_reply_to(serial, question, ((True, False, {}),), "(bba{ss})"))  # all of it is allowed
    assert bus.refused + bus.answered == 100_000
    assert bus.answered > 100  # some of it was on the list
    bad = [path for path in opened if not MAY_OPEN.fullmatch(path)]
    assert bad == []
    assert len(opened) > 400
    for text in installed:
        assert f"\nUser={os.getuid()}\n" in text
        assert text.count("\nExecStart=") == 1
        assert text.count("\nUser=") == 1
    bus.close()
    assert helper.has(requests.Caller(":1.9", os.getuid(), os.getpid(), began_and_group(os.getpid())[0]), Right.READ)
    capsys.readouterr()


def test_fuzzed_commands_reach_no_drive(monkeypatch: pytest.MonkeyPatch) -> None:
    blocks: list[bytes] = []
    admin: list[int] = []

    def send_scsi(_device: int, block: bytes, _length: int) -> RawAnswer:
        blocks.append(block)
        return RawAnswer()

    def send_nvme(_device: int, wanted: NvmeRegisters) -> RawAnswer:
        admin.append(wanted.opcode)
        return RawAnswer()

    monkeypatch.setattr(served, "send_scsi", send_scsi)
    monkeypatch.setattr(served, "send_nvme", send_nvme)
    chance = random.Random(7)
    families = ("ata", "ata-short", "nvme", "scsi", "optical", "disc", "ATA", "")
    names = ["IDENTIFY", "HEALTH", "SMART_DATA", "FORMAT", "SELF_TEST_SHORT", "TEMPERATURE", "identify", "WRITE", ""]
    for _ in range(50_000):
        words = chance.choice(families) + chance.choice(" \t-") + chance.choice(names)
        served.answer_drive(-1, words.encode())
        served.answer_drive(-1, chance.randbytes(chance.randrange(64)))
    # pass-through of IDENTIFY DEVICE, SMART, READ LOG EXT; LOG SENSE (ACS-4, SPC-5): the command is byte 14, 9 or 0
    commands = {block[14] if block[0] == 0x85 else block[9] if block[0] == 0xA1 else block[0] for block in blocks}
    assert commands == {0xEC, 0xB0, 0x4D}
    # Identify, Get Log Page, Device Self-test (NVMe 1.4, figure 139)
    assert set(admin) <= {0x02, 0x06, 0x14}
    assert admin


def test_fuzzed_register_requests_read_the_list_only(monkeypatch: pytest.MonkeyPatch) -> None:
    read: list[int] = []

    def pread(_device: int, size: int, number: int) -> bytes:
        read.append(number)
        return bytes(size)

    monkeypatch.setattr("thresher.privileged.served.os.pread", pread)
    chance = random.Random(3)
    for number in range(0x2000):
        served.answer_register({0: -1}, struct.pack("<II", 0, number))
    for _ in range(20_000):
        served.answer_register({0: -1}, chance.randbytes(chance.choice((0, 1, 7, 8, 8, 8, 9, 64))))
    # time-stamp counter, MPERF, APERF, thermal status of core and package
    assert sorted(set(read)) == [0x10, 0xE7, 0xE8, 0x19C, 0x1B1]
