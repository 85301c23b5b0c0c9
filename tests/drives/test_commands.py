"""Only listed commands can leave the program, and none of them writes; blocks are those of the standard."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.machine.drive_ioctl import KernelPort, returned_registers
from thresher.machine.drive_process import DriveProcess
from thresher.machine.drive_worker import answer
from thresher.model.drive_commands import AtaCommand, NvmeCommand
from thresher.model.errors import SourceUnavailable
from thresher.privileged.drive_lists import ata_block, short_ata_block

READS = {0xEC, 0xB0, 0x2F}
"""IDENTIFY DEVICE, SMART, READ LOG EXT (ACS-4)."""
SMART_READS = {0xD0, 0xD1, 0xD5, 0xDA}
SELF_TESTS = {0x01, 0x02, 0x7F}


def test_every_ata_command_reads_or_is_a_self_test() -> None:
    for command in AtaCommand:
        block = ata_block(command)
        assert len(block) == 16
        assert block[0] == 0x85
        assert block[14] in READS
        assert block[1] >> 1 in (3, 4)  # no data, or data from the drive: never to it
        if block[14] == 0xB0:
            assert block[4] in SMART_READS or (block[4] == 0xD4 and block[8] in SELF_TESTS)
            assert (block[10], block[12]) == (0x4F, 0xC2)
        if command.value.sectors:
            assert block[2] & 0x08  # direction: from the drive


def test_every_nvme_command_reads_or_is_a_self_test() -> None:
    for command in NvmeCommand:
        assert command.value.opcode in (0x02, 0x06, 0x0A, 0x14)
        assert command.value.opcode != 0x14 or command.value.dword10 in (1, 2, 0xF)


@pytest.mark.parametrize(
    ("command", "block"),
    [
        (AtaCommand.IDENTIFY, "85 08 0e 00 00 00 01 00 00 00 00 00 00 00 ec 00"),
        (AtaCommand.SMART_DATA, "85 08 0e 00 d0 00 01 00 00 00 4f 00 c2 00 b0 00"),
        (AtaCommand.SMART_STATUS, "85 06 20 00 da 00 00 00 00 00 4f 00 c2 00 b0 00"),
        (AtaCommand.STATISTICS_ERRORS, "85 09 0e 00 00 00 01 00 04 00 04 00 00 40 2f 00"),
        (AtaCommand.SELF_TEST_ABORT, "85 06 00 00 d4 00 00 00 7f 00 4f 00 c2 00 b0 00"),
    ],
)
def test_blocks_of_sixteen(command: AtaCommand, block: str) -> None:
    assert ata_block(command).hex(" ") == block


def test_blocks_of_twelve_are_for_short_commands_only() -> None:
    found = short_ata_block(AtaCommand.SMART_DATA)
    assert found is not None
    assert found.hex(" ") == "a1 08 0e d0 01 00 4f c2 00 b0 00 00"
    assert short_ata_block(AtaCommand.LINK_COUNTERS) is None


def test_registers_come_back_in_sense_data_of_both_forms() -> None:
    descriptor = bytes.fromhex("72 01 00 1d 00 00 00 0e 09 0c 00 00 00 00 00 00 00 f4 00 2c 40 50")
    assert returned_registers(descriptor) == (0x2CF400, 0x50)
    fixed = bytes.fromhex("f0 00 01 00 50 40 00 0a 00 00 4f c2 00 1d 00 00 00 00")
    assert returned_registers(fixed) == (0xC24F00, 0x50)
    assert returned_registers(bytes(32)) is None


@given(st.text(max_size=40))
def test_what_is_no_command_is_not_sent(line: str) -> None:
    names = {f"ata {name}" for name in AtaCommand.__members__} | {f"nvme {name}" for name in NvmeCommand.__members__}
    if line.strip() in names:
        return
    reply = answer(None, line)  # type: ignore[arg-type]  # nothing may reach a drive
    assert reply.trouble.startswith("there is no command")


def test_a_device_that_cannot_be_opened_is_said_with_its_reason(tmp_path: object) -> None:
    with pytest.raises(SourceUnavailable, match="No such file"):
        DriveProcess(f"{tmp_path}/sdz")


def test_a_file_takes_no_commands(tmp_path: object) -> None:
    path = f"{tmp_path}/disk"
    with open(path, "wb") as stream:  # noqa: PTH123
        stream.write(bytes(4096))
    port = DriveProcess(path)
    try:
        with pytest.raises(SourceUnavailable, match="takes no such commands"):
            port.ata(AtaCommand.IDENTIFY)
        with pytest.raises(SourceUnavailable, match="takes no such commands"):
            port.nvme(NvmeCommand.HEALTH)
    finally:
        port.close()
    direct = KernelPort(path)
    with pytest.raises(SourceUnavailable):
        direct.ata(AtaCommand.SMART_DATA)
    direct.close()


def test_a_drive_that_hangs_holds_up_nobody(tmp_path: object, monkeypatch: pytest.MonkeyPatch) -> None:
    import sys

    from thresher.model import own_program
    from thresher.model.drive_commands import NoAnswer

    hangs = "import sys,time; print('{}', flush=True); sys.stdin.readline(); time.sleep(60)"
    monkeypatch.setattr(own_program, "own_command", lambda *_words: [sys.executable, "-c", hangs])
    port = DriveProcess("/dev/sda", deadline_s=0.3)
    with pytest.raises(NoAnswer, match="no answer in 0 s"):
        port.ata(AtaCommand.IDENTIFY)
    with pytest.raises(NoAnswer, match="did not answer an earlier command"):
        port.ata(AtaCommand.SMART_DATA)
    port.close()
