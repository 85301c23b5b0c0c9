"""Nothing but the scratch file is ever written: what the program opens and asks of the kernel is recorded."""

import ast
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.machine.drive_worker import answer
from thresher.model.drive_commands import AtaAnswer, AtaCommand, NvmeCommand, ScsiCommand
from thresher.privileged.drive_lists import ata_block, scsi_block, short_ata_block

SOURCE = Path(__file__).parents[2] / "src" / "thresher"
RECORDER = """
import json, os, sys
def note(event, arguments):
    if event == "open" and isinstance(arguments[0], (str, bytes)):
        path, mode, flags = arguments
        line = ["open", os.fsdecode(path), mode or "", flags or 0]
    elif event == "fcntl.ioctl":
        line = ["ioctl", arguments[0], int(arguments[1])]
    else:
        return
    handle = os.open(os.environ["WRITES_NOTED_IN"], os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
    os.write(handle, json.dumps(line).encode() + b"\\n")
    os.close(handle)
busy = []
def hook(event, arguments):
    if not busy and event in ("open", "fcntl.ioctl"):
        busy.append(1)
        try:
            note(event, arguments)
        finally:
            busy.pop()
sys.addaudithook(hook)
"""
READING_IOCTLS = {
    0x2285: "SG_IO, its blocks are judged below",
    0xC0484E41: "NVMe admin command, its opcodes are judged below",
    0x80081272: "size of a block device",
    0x1268: "sector of a block device",
    0xC020660B: "extents of a file",
    0x5401: "terminal settings",
    0x5413: "terminal size",
}


def recorded(tmp_path: Path, *words: str, sent: str = "") -> list[list[object]]:
    """Run the program and return what it and the processes it started opened and asked of devices."""
    (tmp_path / "sitecustomize.py").write_text(RECORDER)
    notes = tmp_path / "notes"
    environment = os.environ | {"PYTHONPATH": str(tmp_path), "WRITES_NOTED_IN": str(notes)}
    done = subprocess.run(
        [sys.executable, "-m", *words],
        env=environment,
        input=sent,
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    assert notes.exists(), done.stderr
    return [json.loads(line) for line in notes.read_text().splitlines()]


def writes_to_devices(events: list[list[object]]) -> list[list[object]]:
    """Devices that were opened for more than reading."""
    found = []
    for event in events:
        if event[0] == "open" and str(event[1]).startswith("/dev/"):
            for_writing = int(str(event[3])) & os.O_ACCMODE != os.O_RDONLY or set("wax+") & set(str(event[2]))
            if for_writing and event[1] not in ("/dev/null", "/dev/tty"):
                found.append(event)
    return found


@pytest.fixture
def first_drive() -> str:
    """The kernel's name of a drive of this computer."""
    names = [name for name in sorted(os.listdir("/sys/block")) if not name.startswith(("loop", "ram", "zram", "dm-"))]
    if not names:
        pytest.skip("this computer has no drive")
    return names[0]


@pytest.mark.parametrize(
    "verb", [["list"], ["health", "DRIVE"], ["scan", "DRIVE", "--quick", "--anyway"], ["selftest", "DRIVE"]]
)
def test_no_verb_opens_a_device_for_writing(tmp_path: Path, first_drive: str, verb: list[str]) -> None:
    words = [first_drive if word == "DRIVE" else word for word in verb]
    events = recorded(tmp_path, "thresher.cli", "drive", *words)
    assert writes_to_devices(events) == []
    assert {event[2] for event in events if event[0] == "ioctl"} <= set(READING_IOCTLS)


def test_the_recorder_sees_a_write(tmp_path: Path) -> None:
    (tmp_path / "writer.py").write_text("import os; os.close(os.open('/dev/zero', os.O_RDWR)); open('/dev/full', 'wb')")
    found = writes_to_devices(recorded(tmp_path, "writer"))
    assert [event[1] for event in found] == ["/dev/zero", "/dev/full"]


def test_a_process_that_scans_opens_its_device_for_reading(tmp_path: Path) -> None:
    disk = tmp_path / "disk"
    disk.write_bytes(bytes(1 << 20))
    events = recorded(tmp_path, "thresher.drives.scan_worker", str(disk), sent="{}\n")
    opened = [event for event in events if event[0] == "open" and event[1] == str(disk)]
    assert opened
    assert all(int(str(event[3])) & os.O_ACCMODE == os.O_RDONLY for event in opened)


# ---- what can be sent to a drive


class Recorder:
    """A drive that notes which blocks would be sent to it."""

    def __init__(self) -> None:
        """Nothing was sent."""
        self.sent: list[bytes] = []

    def ata(self, command: AtaCommand) -> AtaAnswer:
        """Note both forms of a command."""
        self.sent += [block for block in (ata_block(command), short_ata_block(command)) if block is not None]
        return AtaAnswer()

    def scsi(self, command: ScsiCommand) -> bytes:
        """Note a command."""
        self.sent.append(scsi_block(command))
        return b""

    def nvme(self, command: NvmeCommand) -> bytes:
        """Note opcode and what it asks for."""
        self.sent.append(bytes((command.value.opcode,)) + command.value.dword10.to_bytes(4, "little"))
        return b""


def harmless(block: bytes) -> bool:
    """Whether a block is one of those that the standards have for reading, or for the drive's own self-tests."""
    if len(block) == 5:  # NVMe: get log page, identify, get features, or a self-test that is started or ended
        return block[0] in (0x02, 0x06, 0x0A) or (block[0] == 0x14 and block[1] in (0x1, 0x2, 0xF))
    if block[0] == 0x4D:  # LOG SENSE
        return True
    command, features, low = (block[14], block[4], block[8]) if block[0] == 0x85 else (block[9], block[3], block[5])
    if block[0] not in (0x85, 0xA1) or block[1] >> 1 & 0xF not in (3, 4):  # no data, or data from the drive
        return False
    if command == 0xB0:
        return features in (0xD0, 0xD1, 0xD5, 0xDA) or (features == 0xD4 and low in (0x01, 0x02, 0x7F))
    return command in (0xEC, 0x2F)


KINDS = (("ata", AtaCommand), ("nvme", NvmeCommand), ("scsi", ScsiCommand))
NAMES = [f"{kind} {name}" for kind, commands in KINDS for name in commands.__members__]
LONGER = st.builds(lambda name, tail: name + tail, st.sampled_from(NAMES), st.text(max_size=8))


@given(st.one_of(st.text(max_size=60), st.sampled_from(NAMES), LONGER))
def test_whatever_is_asked_only_harmless_commands_leave(line: str) -> None:
    port = Recorder()
    answer(port, line)  # type: ignore[arg-type]
    assert all(harmless(block) for block in port.sent)


@pytest.mark.parametrize("name", NAMES)
def test_every_listed_command_is_sent_and_harmless(name: str) -> None:
    port = Recorder()
    answer(port, name)  # type: ignore[arg-type]
    assert port.sent
    assert all(harmless(block) for block in port.sent)


def test_writes_are_not_taken_for_harmless() -> None:
    write_dma = bytes.fromhex("85 0d 06 00 00 00 01 00 00 00 00 00 00 40 35 00")
    sanitize = bytes.fromhex("85 06 20 00 11 00 00 00 00 00 00 00 00 00 b4 00")
    smart_disable = bytes.fromhex("85 06 00 00 d9 00 00 00 00 00 4f 00 c2 00 b0 00")
    format_nvm = b"\x80\0\0\0\0"
    set_features = b"\x09\x06\0\0\0"
    for block in (write_dma, sanitize, smart_disable, format_nvm, set_features):
        assert not harmless(block)


# ---- what the code can open


def opens_for_writing(tree: ast.AST) -> list[int]:
    """Lines of code that open something for writing by the interface of the system: flags, or `pwrite`."""
    names = {"O_WRONLY", "O_RDWR", "pwrite", "pwritev", "O_CREAT", "O_TRUNC"}
    return [node.lineno for node in ast.walk(tree) if isinstance(node, ast.Attribute) and node.attr in names]


def test_only_the_scratch_file_is_written_by_what_reads_drives() -> None:
    found = {}
    for folder in ("drives", "machine", "engine/drive_jobs"):
        for path in (SOURCE / folder).glob("*.py"):
            lines = opens_for_writing(ast.parse(path.read_text()))
            if lines:
                found[path.relative_to(SOURCE).as_posix()] = lines
    # the others unpack captures of other machines into a folder of their own, and feed the hardware watchdog
    assert set(found) == {"machine/scratch_file.py", "machine/unpack.py", "machine/watchdog_worker.py"}
