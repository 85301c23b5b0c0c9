"""The start of the stick: where jobs are kept, what the clock says, what is asked once, what goes on."""

import json
from collections.abc import Sequence
from pathlib import Path

import pytest

from thresher.app.job_summary import job_summary
from thresher.app.keeping_jobs import Share, jobs_in, keep_on_stick, save_to, save_to_share, targets
from thresher.app.wiring import make_engine
from thresher.journal.lock import locked
from thresher.machine.live import LiveSystem
from thresher.model.errors import EnvironmentFault, InputError
from thresher.stick.boot import (
    Mode,
    Settings,
    StickState,
    boot_options,
    clock_trouble,
    on_stick,
    read_going_on,
    read_settings,
    read_state,
    write_settings,
    write_state,
)
from thresher.stick.clock import what_is_wrong
from thresher.stick.console import SHELL, command_for
from thresher.stick.restart import StickRestart
from thresher.stick.start import find_jobs, prepare

DAY = 86400.0
MARCH = 1_772_539_200.0
TABLE = json.dumps(
    {
        "partitiontable": {
            "label": "dos",
            "sectorsize": 512,
            "partitions": [{"node": "/dev/sdb1", "start": 64, "size": 1_400_000, "type": "cd"}],
        }
    }
)


class NotedTools:
    """Answers for a stick of 8 GB; what is called is noted. `broken` names tools that fail."""

    def __init__(self, label: str = "", broken: Sequence[str] = ()) -> None:
        self.label, self.broken = label, broken
        self.commands: list[list[str]] = []

    def __call__(self, command: Sequence[str], given: str = "") -> str:
        self.commands.append([*command])
        if command[0] in self.broken:
            raise EnvironmentFault(f"running {command[0]}", "it does not work", "")
        if command[0] == "blkid" and not self.label:
            raise EnvironmentFault("running blkid", "it ended with 2", "")
        if command[0] == "sfdisk" and "--json" in command:
            return TABLE
        return {"blockdev": "8000000000", "blkid": self.label}.get(command[0], "")


@pytest.fixture
def on_sdb(monkeypatch: pytest.MonkeyPatch) -> str:
    """Mounts of a system that was started from /dev/sdb1."""
    monkeypatch.setattr("thresher.stick.start.drive_of", lambda medium: "/dev/sdb" if medium == "/dev/sdb1" else None)
    return "/dev/sdb1 /run/live/medium iso9660 ro 0 0\n"


@pytest.mark.parametrize(
    ("line", "mode", "in_memory"),
    [
        ("BOOT_IMAGE=/live/vmlinuz boot=live quiet", Mode.WINDOW, False),
        ("boot=live quiet toram", Mode.WINDOW, True),
        ("boot=live thresher.mode=text console=ttyS0", Mode.TEXT, False),
        ("boot=live thresher.mode=memory", Mode.MEMORY, False),
        ("boot=live thresher.mode=dance", Mode.WINDOW, False),
        ("", Mode.WINDOW, False),
    ],
)
def test_the_boot_menu_is_understood(line: str, mode: Mode, in_memory: bool) -> None:
    options = boot_options(line)
    assert (options.mode, options.in_memory) == (mode, in_memory)


def test_jobs_of_before_are_mounted(tmp_path: Path, on_sdb: str) -> None:
    tools = NotedTools("THRESHER-JOBS")
    state = find_jobs(on_sdb, False, tmp_path, tools)
    assert (state.lasting, state.drive, state.reason) == (True, "/dev/sdb", "")
    mounted = next(each for each in tools.commands if each[0] == "mount")
    assert mounted[-2:] == ["/dev/sdb3", str(tmp_path)]
    assert "errors=remount-ro" in mounted[mounted.index("-o") + 1]


def test_a_new_stick_says_how_much_room_it_has_and_is_left_as_it_is(tmp_path: Path, on_sdb: str) -> None:
    tools = NotedTools()
    state = find_jobs(on_sdb, False, tmp_path, tools)
    assert (state.lasting, state.room) == (False, 8_000_000_000 - 2 * 1024**3)
    assert "no partition for jobs yet" in state.reason
    assert {each[0] for each in tools.commands} == {"blockdev", "sfdisk", "blkid"}
    assert not any("--setrw" in each or "--append" in each for each in tools.commands), "nothing before it was asked"


@pytest.mark.parametrize(
    ("mounts", "in_memory", "words"),
    [
        ("/dev/sdb1 /run/live/medium iso9660 ro 0 0\n", True, "stick can be removed"),
        ("/dev/sr0 /run/live/medium iso9660 ro 0 0\n", False, "did not boot from a USB stick"),
        ("", False, "did not boot from a USB stick"),
    ],
)
def test_without_a_stick_jobs_are_in_memory_and_it_is_said_why(
    tmp_path: Path, on_sdb: str, mounts: str, in_memory: bool, words: str
) -> None:
    state = find_jobs(mounts, in_memory, tmp_path, NotedTools())
    assert not state.lasting
    assert words in state.reason


def test_a_partition_that_does_not_mount_is_said_and_nothing_stops(tmp_path: Path, on_sdb: str) -> None:
    state = find_jobs(on_sdb, False, tmp_path, NotedTools("THRESHER-JOBS", broken=("mount",)))
    assert (state.lasting, state.drive) == (False, "/dev/sdb")
    assert "it does not work" in state.reason


def test_everything_is_prepared_for_the_session(tmp_path: Path, on_sdb: str) -> None:
    home, run = tmp_path / "home", tmp_path / "run"
    prepare("boot=live", on_sdb, home, run, NotedTools())
    assert on_stick(run)
    assert (run / "drive").read_text() == "sdb\n"
    assert read_state(run).room > 0
    environment = (run / "environment").read_text()
    assert f"XDG_DATA_HOME={home}/data\n" in environment
    assert (home / "data").stat().st_mode & 0o777 == 0o700
    assert (run / "runtime").is_dir()


def test_a_clock_from_before_the_image_is_wrong() -> None:
    assert what_is_wrong(MARCH + DAY, MARCH) == ""
    assert what_is_wrong(MARCH - 3600, MARCH) == "", "another time zone"
    assert what_is_wrong(MARCH, 0.0) == "", "nothing is known"
    words = what_is_wrong(MARCH - 800 * DAY, MARCH)
    assert words == "it shows 24 Dec 2023, 800 days before this stick was made (03 Mar 2026)"


def test_trouble_with_the_clock_is_noted_on_the_stick_only(tmp_path: Path) -> None:
    assert clock_trouble(tmp_path, MARCH) == "", "no stick"
    write_state(StickState(lasting=True, built=MARCH), tmp_path)
    assert clock_trouble(tmp_path, MARCH) == ""
    assert "24 Dec 2023" in clock_trouble(tmp_path, MARCH - 800 * DAY)
    write_state(StickState(lasting=True, built=MARCH, clock_wrong=True), tmp_path)
    assert clock_trouble(tmp_path, MARCH).startswith("reported at the start")


def test_a_job_on_the_stick_has_the_wrong_clock_on_its_tape(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("thresher.app.wiring.clock_trouble", lambda: "it shows 24 Dec 2023")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    engine = make_engine(LiveSystem(), tmp_path / "a.thresher", shop=tmp_path / "shop")
    entries = [entry for entry in engine.snapshot().tape if entry.title == "The clock of this machine is wrong"]
    engine.close()
    assert [entry.detail for entry in entries] == ["it shows 24 Dec 2023"]


def test_the_keyboard_is_kept_and_damage_asks_again(tmp_path: Path) -> None:
    write_settings(Settings("de"), tmp_path)
    assert read_settings(tmp_path) == Settings("de")
    (tmp_path / "stick.json").write_bytes(b"\x00" * 40)
    assert read_settings(tmp_path) == Settings()


# ---- going on


def test_a_run_goes_on_from_the_stick(tmp_path: Path) -> None:
    home, run = tmp_path / "home", tmp_path / "run"
    run.mkdir()
    job = home / "data/thresher/jobs/a.thresher"
    job.parent.mkdir(parents=True)
    job.write_bytes(b"job")
    restart = StickRestart(home, run)
    write_state(StickState(reason="this stick has no partition for jobs yet"), run)
    with pytest.raises(EnvironmentFault, match="jobs are in memory"):
        restart.install(job)
    write_state(StickState(lasting=True), run)
    with pytest.raises(EnvironmentFault, match="not on the stick"):
        restart.install(tmp_path / "elsewhere.thresher")
    assert "USB first in the boot order" in restart.install(job)
    assert read_going_on(home) == job
    assert command_for(boot_options("thresher.mode=memory"), read_going_on(home))[-2:] == ["go-on", str(job)]
    assert restart.remove()
    assert restart.remove() == ""
    assert read_going_on(home) is None


def test_a_name_that_leads_out_of_the_stick_goes_nowhere(tmp_path: Path) -> None:
    home = tmp_path / "home"
    home.mkdir()
    (tmp_path / "outside.thresher").write_bytes(b"")
    for name in ("../outside.thresher", "", "gone.thresher", "\udcff"):
        (home / "going-on").write_bytes(name.encode("utf-8", "surrogateescape"))
        assert read_going_on(home) is None


def test_the_consoles_become_what_the_menu_asked_for() -> None:
    assert command_for(boot_options("thresher.mode=text"), None) == SHELL
    memory = command_for(boot_options("thresher.mode=memory"), None)
    assert memory[-3:] == ["run", "memory-check-long", "--unwatched-limit"]


# ---- saving what is in memory


def test_jobs_in_memory_are_kept_on_the_stick_after_all(tmp_path: Path) -> None:
    home, run = tmp_path / "home", tmp_path / "run"
    run.mkdir()
    job = home / "data/thresher/jobs/a.thresher"
    job.parent.mkdir(parents=True)
    job.write_bytes(b"job")
    write_state(StickState(reason="none yet", drive="/dev/sdb", room=5), run)
    tools = NotedTools()
    state = keep_on_stick(home, run, tools)
    assert state.lasting
    assert read_state(run).lasting
    assert (run / "new-home/data/thresher/jobs/a.thresher").read_bytes() == b"job"
    mounts = [each[-1] for each in tools.commands if each[0] == "mount"]
    assert mounts == [str(run / "new-home"), str(home)], "copied first, then in their place"
    assert keep_on_stick(home, run, tools) == state, "a second time changes nothing"


def test_an_open_job_is_not_moved_under_the_engine_that_writes_it(tmp_path: Path) -> None:
    run = tmp_path / "run"
    run.mkdir()
    job = tmp_path / "data/thresher/jobs/a.thresher"
    job.parent.mkdir(parents=True)
    job.write_bytes(b"job")
    write_state(StickState(reason="none yet", drive="/dev/sdb", room=5), run)
    tools = NotedTools()
    with locked(job, "the job file"), pytest.raises(EnvironmentFault, match="Close the bench first"):
        keep_on_stick(tmp_path, run, tools)
    assert tools.commands == []


def test_a_partition_that_cannot_be_formatted_leaves_no_entry_behind(tmp_path: Path) -> None:
    run = tmp_path / "run"
    run.mkdir()
    write_state(StickState(reason="none yet", drive="/dev/sdb", room=5), run)
    tools = NotedTools(broken=("mkfs.ext4",))
    with pytest.raises(EnvironmentFault):
        keep_on_stick(tmp_path, run, tools)
    assert tools.commands[-1][:2] == ["sfdisk", "--delete"]


LSBLK = """{"blockdevices":[
 {"path":"/dev/sda","size":500,"rm":false,"hotplug":false,"children":[
   {"path":"/dev/sda1","fstype":"ntfs","label":"Customer","size":400000000000}]},
 {"path":"/dev/sdb","size":8,"rm":true,"hotplug":true,"children":[
   {"path":"/dev/sdb3","fstype":"ext4","label":"THRESHER-JOBS","size":1}]},
 {"path":"/dev/sdc","size":8,"rm":true,"hotplug":true,"children":[
   {"path":"/dev/sdc1","fstype":"vfat","label":"BENCH","size":16000000000},
   {"path":"/dev/sdc2","fstype":"crypto_LUKS","size":1}]}]}"""


def test_only_drives_that_can_be_unplugged_are_offered() -> None:
    (found,) = targets(LSBLK, "/dev/sdb")
    assert found.words == "BENCH, 16.0 GB, vfat, /dev/sdc1"
    with pytest.raises(InputError):
        targets("", "/dev/sdb")


def test_jobs_are_saved_with_what_belongs_to_them(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("thresher.app.keeping_jobs.MOUNTS", tmp_path / "mounts")
    folder = tmp_path / "data/thresher/jobs"
    folder.mkdir(parents=True)
    for name in ("a.thresher", "a.thresher.blackbox", "b.thresher", "notes.txt"):
        (folder / name).write_bytes(name.encode())
    tools = NotedTools()
    (target,) = targets(LSBLK, "/dev/sdb")
    words = save_to(target, jobs_in(tmp_path), tools)
    assert words == "2 jobs saved in thresher-jobs on BENCH, 16.0 GB, vfat, /dev/sdc1"
    saved = sorted(path.name for path in (tmp_path / "mounts/thresher-jobs").iterdir())
    assert saved == ["a.thresher", "a.thresher.blackbox", "b.thresher"]
    assert ["blockdev", "--setrw", "/dev/sdc1"] in tools.commands
    ended = [each[0] for each in tools.commands[-3:]]
    assert ended == ["umount", "blockdev", "blockdev"], "and read only again"
    assert tools.commands[-1][1] == "--setro"


def test_a_share_gets_its_password_by_a_file_that_goes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("thresher.app.keeping_jobs.MOUNTS", tmp_path / "mounts")
    seen: list[str] = []

    def tools(command: Sequence[str], given: str = "") -> str:
        if command[0] == "mount":
            assert "sekret" not in " ".join(command), "a command line can be read by everybody"
            seen.append((tmp_path / "share").read_text())
        return ""

    save_to_share(Share("//quay/bench", "mo", "sekret"), [], tools, tmp_path)
    assert seen == ["username=mo\npassword=sekret\n"]
    assert not (tmp_path / "share").exists()
    for bad in (Share("quay/bench"), Share("//quay"), Share("//quay/b,uid=0"), Share("//quay/b", "m\no")):
        with pytest.raises(InputError):
            save_to_share(bad, [], tools, tmp_path)
    assert len(seen) == 1


def test_a_job_fits_into_a_code(tmp_path: Path, finished_job: Path) -> None:
    text = job_summary(finished_job)
    assert text.startswith("Thresher job ")
    assert len(text.encode()) <= 900
    assert "%" in text
