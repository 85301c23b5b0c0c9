"""Each entry of the allowlist through the real service on a bus: given when allowed, refused when not, and logged."""

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.privileged.conftest import Bench, StandInPolkit
from thresher.machine.access import NOT_INSTALLED, AccessClient
from thresher.machine.helper_drive import HelperSender
from thresher.machine.page_frames import page_frames
from thresher.machine.watchdog import HelperWatchdog
from thresher.model.access import AccessLevel, Allowed
from thresher.model.drive_commands import AtaCommand, NvmeCommand
from thresher.model.errors import SourceUnavailable

ALL = {f"org.thresher.Access1.{word}" for word in ("read", "drives", "contents", "memory", "watchdog", "restart")}

LISTED = (
    "/sys/firmware/dmi/tables/DMI",
    "/sys/firmware/dmi/tables/smbios_entry_point",
    "/sys/class/dmi/id/board_serial",
    "/sys/class/dmi/id/product_uuid",
    "/sys/firmware/acpi/tables/BERT",
    "/sys/firmware/acpi/tables/data/BERT",
    "/sys/firmware/acpi/tables/SSDT12",
    "/sys/class/powercap/intel-rapl:0/energy_uj",
    "/sys/class/powercap/intel-rapl:0:1/energy_uj",
    "/sys/fs/pstore/dmesg-erst-7",
    "/var/lib/systemd/pstore/1760000000/dmesg.txt",
    "/var/lib/systemd/pstore/1760000000/001/dmesg.txt",
)
NOT_LISTED = (
    "/etc/shadow",
    "/dev/mem",
    "/dev/kmsg/../mem",
    "/sys/firmware/dmi/tables/../../../../etc/shadow",
    "/sys/firmware/dmi/tables/DMI\n",
    "/sys/firmware/dmi/tables/DMI/",
    "/sys/fs/pstore/..",
    "/sys/fs/pstore/.hidden",
    "/var/lib/systemd/pstore/a/b/c/d",
    "/sys/class/powercap/intel-rapl:0/constraint_0_power_limit_uw",
    "/sys/class/powercap/../../../etc/shadow",
    "sys/firmware/dmi/tables/DMI",
    "/sys/firmware/acpi/tables/bert",
    "",
    "/" * 600,
)


def read_all(descriptor: int) -> bytes:
    with os.fdopen(descriptor, "rb") as stream:
        return stream.read()


@pytest.mark.parametrize("path", LISTED)
def test_a_file_of_the_list_is_handed_over_for_reading(bench: Bench, client: AccessClient, path: str) -> None:
    bench.polkit.allowed = ALL
    bench.write(path, "what is in it")
    descriptor = client.open_file(path)
    with pytest.raises(OSError, match="Bad file descriptor"):
        os.write(descriptor, b"x")
    assert read_all(descriptor) == b"what is in it"
    assert bench.has_logged(f"OpenFile ('{path}',)")


def test_nothing_else_is_opened(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    for path in ("/etc/shadow", "/dev/mem"):
        bench.write(path, "secret")
    for path in NOT_LISTED:
        with pytest.raises(SourceUnavailable, match="is not on the list"):
            client.open_file(path)
    assert bench.has_logged("refused", len(NOT_LISTED))


def test_a_link_or_a_folder_in_the_place_of_a_file_is_refused(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    secret = bench.write("/etc/shadow", "secret")
    link = bench.root / "sys/fs/pstore/dmesg-1"
    link.parent.mkdir(parents=True)
    link.symlink_to(secret)
    with pytest.raises(SourceUnavailable, match="Too many levels of symbolic links"):
        client.open_file("/sys/fs/pstore/dmesg-1")
    (bench.root / "sys/fs/pstore/dmesg-2").mkdir()
    with pytest.raises(SourceUnavailable, match="not the kind of file"):
        client.open_file("/sys/fs/pstore/dmesg-2")
    os.mkfifo(bench.root / "sys/fs/pstore/dmesg-3")
    with pytest.raises(SourceUnavailable, match="not the kind of file"):
        client.open_file("/sys/fs/pstore/dmesg-3")
    bench.write("/dev/kmsg", "a plain file")  # the log is a character device
    with pytest.raises(SourceUnavailable, match="not the kind of file"):
        client.open_file("/dev/kmsg")


def test_folders_of_last_words_are_listed_and_no_others(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    bench.write("/var/lib/systemd/pstore/176/dmesg.txt")
    bench.write("/srv/secret")
    assert client.list_folder("/var/lib/systemd/pstore") == ["176"]
    assert client.list_folder("/var/lib/systemd/pstore/176") == ["dmesg.txt"]
    assert client.list_folder("/var/lib/systemd/pstore/176/dmesg.txt") == []
    assert client.list_folder("/var/lib/systemd/pstore/..") == []
    assert client.list_folder("/srv") == []


def test_registers_of_the_list_are_read_and_no_others(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    content = bytearray(0x400)
    content[0xE8:0xF0] = (123456789).to_bytes(8, "little")
    content[0x3A:0x42] = (7).to_bytes(8, "little")
    bench.write("/dev/cpu/3/msr", bytes(content))
    assert client.read_register(3, 0xE8) == 123456789
    for cpu, number in ((3, 0x3A), (3, 0x79), (0, 0xE8), (3, 0xC0000081)):
        with pytest.raises(SourceUnavailable, match="no such register"):
            client.read_register(cpu, number)
    assert client.read_register(3, 0xE8) == 123456789  # a refused request ends nothing


def test_no_registers_without_the_kernels_module(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    with pytest.raises(SourceUnavailable, match="No such file"):
        client.read_register(0, 0xE8)


def test_only_devices_are_opened_as_drives(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    bench.write("/dev/sda", "a plain file")
    bench.write("/dev/nvme0", "a plain file")
    bench.write("/sys/block/sda/dev", "8:0\n")
    for path in ("/dev/sda", "/dev/nvme0"):
        with pytest.raises(SourceUnavailable, match="no drive"):
            client.open_drive(path)
    with pytest.raises(SourceUnavailable, match="no whole drive"):
        client.open_blocks("/dev/sda")
    for path in ("/dev/sda1", "/dev/loop0", "/dev/dm-0", "/dev/nvme0n1p2", "/dev/mapper/x", "/dev/../dev/sda"):
        with pytest.raises(SourceUnavailable, match="not on the list"):
            client.open_blocks(path)
        with pytest.raises(SourceUnavailable, match="not on the list"):
            client.open_drive(path)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can make a device file")
def test_commands_of_the_list_reach_a_device_and_the_kernel_answers(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    (bench.root / "dev").mkdir()
    os.mknod(bench.root / "dev/nvme0", 0o20600, os.makedev(1, 3))  # the null device takes no drive commands
    sender = HelperSender("/dev/nvme0", client.open_drive("/dev/nvme0"))
    assert sender.nvme(NvmeCommand.HEALTH).errno == 25  # ENOTTY
    assert sender.ata(AtaCommand.IDENTIFY, short=True).errno == 25
    sender.close()


def said_by_worker(end: int, code: str) -> str:
    """Return what a process prints that holds the workers' socket; `frames` is what it got."""
    setup = f"import os;from thresher.machine.page_frames import page_frames;frames=lambda: page_frames({end});"
    command = [sys.executable, "-c", setup + code]
    return subprocess.run(command, pass_fds=[end], capture_output=True, text=True, check=True).stdout


def test_a_worker_gets_its_own_page_frames(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    end = client.open_workers()
    path, pid = said_by_worker(end, "print(os.readlink(f'/proc/self/fd/{frames()}'),os.getpid())").split()
    assert path == f"/proc/{pid}/pagemap"
    os.close(end)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become another user")
def test_another_users_process_gets_none(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    end = client.open_workers()
    assert said_by_worker(end, "os.setgid(65534);os.setuid(65534);print(frames())") == "None\n"
    assert page_frames(end) is not None  # and the way stays open for the user's own
    os.close(end)


def test_the_watchdog_is_armed_fed_and_off_when_nobody_holds_it(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    device = bench.write("/dev/watchdog0")
    dog = HelperWatchdog("watchdog0", client.open_watchdog("/dev/watchdog0", 60))
    assert dog.timeout_s == 60.0
    assert dog.feed() == ""
    assert dog.close() == ""
    assert device.read_bytes() == b"\0V"
    client.open_watchdog("/dev/watchdog0", 60).close()  # as when the program is killed
    until = time.monotonic() + 10
    while device.read_bytes() != b"VV" and time.monotonic() < until:
        time.sleep(0.02)
    # opened without truncation, so the second V stands where the first byte of the first time was
    assert device.read_bytes() == b"VV"


def test_a_watchdog_that_cannot_be_switched_off_is_not_armed(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    device = bench.write("/dev/watchdog0")
    bench.write("/sys/class/watchdog/watchdog0/nowayout", "1\n")
    with pytest.raises(SourceUnavailable, match="nowayout"):
        client.open_watchdog("/dev/watchdog0", 60)
    assert device.read_bytes() == b""
    with pytest.raises(SourceUnavailable, match="not on the list"):
        client.open_watchdog("/dev/watchdog0/../mem", 60)


def test_the_unit_runs_as_the_caller_and_only_this_program(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    client.install_restart(Path("/home/mara/50 % of it.thresher"))
    unit = bench.root / "units/thresher-go-on.service"
    lines = unit.read_text().splitlines()
    assert f"User={os.getuid()}" in lines
    assert f'ExecStart="{sys.executable}" "-P" "-m" "thresher.cli" "go-on" "/home/mara/50 %% of it.thresher"' in lines
    assert (bench.root / "units/multi-user.target.wants/thresher-go-on.service").is_symlink()
    for job in ("/home/a\nUser=root", "/home/../etc/x", "relative", "/home/" + "x" * 600, "/a\x7fb"):
        with pytest.raises(SourceUnavailable, match="plain absolute path"):
            client.install_restart(Path(job))
    assert unit.read_text().splitlines() == lines
    assert len(client.remove_restart()) == 2
    assert client.remove_restart() == []


def test_another_users_unit_stays(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    unit = bench.write("/units/thresher-go-on.service", "[Service]\nExecStart=/bin/true\n")  # root's own has no user
    for act in (client.remove_restart, lambda: client.install_restart(Path("/home/a.thresher"))):
        with pytest.raises(SourceUnavailable, match="another user's run"):
            act()
    assert unit.read_text().endswith("/bin/true\n")


def test_traced_errors_come_from_an_instance_that_goes_with_the_caller(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    with pytest.raises(SourceUnavailable, match="tracing is not mounted"):
        client.open_trace()


# ---- who may


def test_what_is_not_allowed_is_refused_with_what_would_change_it(bench: Bench, client: AccessClient) -> None:
    bench.write("/sys/firmware/dmi/tables/DMI", "table")
    with pytest.raises(SourceUnavailable, match="thresher access --ask"):
        client.open_file("/sys/firmware/dmi/tables/DMI")
    asked = len(bench.polkit.asked)
    with pytest.raises(SourceUnavailable, match="thresher access --ask"):
        client.open_file("/sys/firmware/dmi/tables/DMI")
    assert len(bench.polkit.asked) == asked  # what was refused once is not asked for again and again
    assert all(flags == 0 for _, flags in bench.polkit.asked)  # nobody is disturbed without having wished it


def test_one_question_opens_everything_for_this_process_alone(bench: Bench, client: AccessClient) -> None:
    assert client.access().level is AccessLevel.NONE
    assert {each.allowed for each in client.access().items} == {Allowed.ASK}
    bench.polkit.person_says_yes = True
    found = client.ask()
    assert found.level is AccessLevel.FULL
    assert [each for each in bench.polkit.asked if each[1]] == [("org.thresher.Access1.all", 1)]
    bench.polkit.person_says_yes = False  # in the night nobody is asked again
    assert client.ask().level is AccessLevel.FULL
    assert len([each for each in bench.polkit.asked if each[1]]) == 1
    bench.write("/sys/firmware/dmi/tables/DMI", "table")
    assert read_all(client.open_file("/sys/firmware/dmi/tables/DMI")) == b"table"
    assert AccessClient(root=False).access().level is AccessLevel.FULL  # another connection of the same process
    code = "from thresher.machine.access import AccessClient;print(AccessClient(root=False).access().level.value)"
    other = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert other.stdout == "no access\n"


def test_somebody_who_says_no_leaves_everything_as_it_was(bench: Bench, client: AccessClient) -> None:
    found = client.ask()
    assert found.level is AccessLevel.NONE
    assert found.can_ask
    assert bench.has_logged("asked for everything: not allowed")


def test_a_rule_may_allow_a_part(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = {"org.thresher.Access1.read", "org.thresher.Access1.drives"}
    bench.polkit.may_ask = False
    found = client.access()
    assert found.level is AccessLevel.PARTIAL
    assert not found.can_ask
    assert [each.right for each in found.missing] == ["contents", "memory", "watchdog", "restart"]
    assert "missing: reading whole drives, places in memory modules" in found.sentence


def test_without_polkit_nothing_is_given(bench: Bench, client: AccessClient) -> None:
    bench.polkit.close()
    bench.write("/sys/firmware/dmi/tables/DMI", "table")
    with pytest.raises(SourceUnavailable, match="rules do not allow"):
        client.open_file("/sys/firmware/dmi/tables/DMI")


def test_without_the_helper_everything_says_so(bus: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    client = AccessClient(root=False)
    with pytest.raises(SourceUnavailable, match="not installed"):
        client.open_file("/sys/firmware/dmi/tables/DMI")
    client.close()
    assert client.access().why == NOT_INSTALLED
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={bus}-gone")
    assert "no system bus" in AccessClient(root=False).access().why


def test_the_first_request_starts_the_helper_and_is_answered(bus: Path, tmp_path: Path) -> None:
    """The bus passes on what waited for a service before it answers that the service has its name."""
    root = tmp_path / "machine"
    (root / "sys/firmware/dmi/tables").mkdir(parents=True)
    (root / "sys/firmware/dmi/tables/DMI").write_text("table")
    command = f"cd {Path(__file__).parents[2]} && exec {sys.executable} -m tests.privileged.helper_process {root}"
    (tmp_path / "services/org.thresher.Access1.service").write_text(
        f"[D-BUS Service]\nName=org.thresher.Access1\nExec=/bin/sh -c '{command}'\n"
    )
    polkit, client = StandInPolkit(), AccessClient(root=False)
    polkit.allowed = ALL
    assert client.access().level is AccessLevel.FULL
    assert read_all(client.open_file("/sys/firmware/dmi/tables/DMI")) == b"table"
    client.close()
    polkit.close()


def test_a_helper_that_ends_takes_nothing_along(bench: Bench, client: AccessClient) -> None:
    bench.polkit.allowed = ALL
    bench.write("/sys/firmware/dmi/tables/DMI", "table")
    held = client.open_file("/sys/firmware/dmi/tables/DMI")
    bench.process.terminate()
    bench.process.wait(10)
    with pytest.raises(SourceUnavailable, match=r"not installed|does not answer"):
        client.open_file("/sys/firmware/dmi/tables/DMI")
    assert read_all(held) == b"table"  # what was handed over stays open
