"""The image's recipe: lock, packages, menu, archive of what is laid over, and the commands that build it."""

import io
import re
import tarfile
from pathlib import Path

import pytest
from PIL import Image
from stick.image import (
    HERE,
    Wanted,
    copy_source,
    image_command,
    lock_path,
    packages_of,
    read_lock,
    system_command,
    tree_archive,
)
from stick.lock import Lock, names_of, parse_lock

from stick import menu
from thresher.model.errors import EnvironmentFault, InputError

TREE = HERE / "tree"


def test_a_lock_is_read_back_as_it_was_written() -> None:
    lock = Lock(1_790_000_000, {"udev": "252.1-1", "libc6": "2.36-9+deb12u10", "gcc-12-base": "12.2.0-14"})
    again = parse_lock(lock.text("main"), "lock")
    assert again == lock
    assert again.wanted == ["gcc-12-base=12.2.0-14", "libc6=2.36-9+deb12u10", "udev=252.1-1"]


def test_a_damaged_lock_says_which_lines() -> None:
    with pytest.raises(InputError) as caught:
        parse_lock("udev=252\nlibc6 2.36\n\n=3\n", "packages.lock")
    words = str(caught.value)
    assert "line 2" in words
    assert "line 4" in words
    assert "# time" in words


def test_the_lock_that_ships_holds_everything_that_is_asked_for() -> None:
    lock = parse_lock((HERE / "packages.lock").read_text(), "packages.lock")
    locked = {name.partition(":")[0] for name in lock.versions}
    assert set(names_of(HERE / "packages.txt")) <= locked
    assert not {"mdadm", "lvm2", "udisks2", "multipath-tools", "os-prober"} & locked, "they touch customers' drives"


def test_each_set_of_components_has_a_lock_of_its_own() -> None:
    assert lock_path("main").name == "packages.lock"
    assert lock_path("main,non-free-firmware").name == "packages+non-free-firmware.lock"
    with pytest.raises(EnvironmentFault, match="--newest"):
        read_lock("main,contrib")
    assert read_lock("main").versions


def test_firmware_that_is_not_free_comes_only_when_it_is_asked_for(tmp_path: Path) -> None:
    plain = Wanted(tmp_path / "a.iso", "http://deb.example/debian", "main", None)
    more = Wanted(tmp_path / "a.iso", "http://deb.example/debian", "main,non-free-firmware", None)
    assert "firmware-amd-graphics" not in packages_of(plain)
    assert "firmware-amd-graphics" in packages_of(more)
    locked = Wanted(tmp_path / "a.iso", "http://deb.example/debian", "main", Lock(1, {"udev": "252"}))
    assert packages_of(locked) == ["udev=252"]


def test_the_system_is_made_from_the_mirror_that_is_named(tmp_path: Path) -> None:
    wanted = Wanted(tmp_path / "a.iso", "http://deb.example/debian", "main,non-free-firmware", None)
    command = system_command(wanted, tmp_path, 1)
    sources = [each for each in command if each.startswith("deb ")]
    assert sources == [
        "deb http://deb.example/debian bookworm main non-free-firmware",
        "deb http://deb.example/debian bookworm-updates main non-free-firmware",
        "deb http://deb.example/debian-security bookworm-security main non-free-firmware",
    ]


def test_the_mirror_of_security_updates_follows_from_the_mirror(tmp_path: Path) -> None:
    for mirror, security in (
        ("http://debian.example/debian", "http://debian.example/debian-security"),
        (
            "http://old.example/archive/debian/20261129T000000Z",
            "http://old.example/archive/debian-security/20261129T000000Z",
        ),
    ):
        command = system_command(Wanted(tmp_path / "a.iso", mirror, "main", None), tmp_path, 1)
        assert f"deb {security} bookworm-security main" in command


def test_what_is_laid_over_belongs_to_root_and_has_one_time(tmp_path: Path) -> None:
    wheel = tmp_path / "thresher-1-py3-none-any.whl"
    wheel.write_bytes(b"wheel")
    archive = tree_archive(TREE, [wheel], 1_790_000_000)
    assert archive == tree_archive(TREE, [wheel], 1_790_000_000), "the same every time"
    with tarfile.open(fileobj=io.BytesIO(archive)) as opened:
        members = {each.name: each for each in opened.getmembers()}
    assert {(each.uid, each.gid, each.mtime) for each in members.values()} == {(0, 0, 1_790_000_000)}
    assert members["usr/lib/thresher-stick/session"].mode == 0o755
    assert members["etc/systemd/system/thresher-session.service"].mode == 0o644
    assert "wheels/thresher-1-py3-none-any.whl" in members
    assert "etc/thresher/built" in members


def test_every_drive_is_read_only_from_its_first_moment() -> None:
    rules = (TREE / "etc/udev/rules.d/10-thresher-read-only.rules").read_text()
    assert "--setro /dev/%k" in rules
    hook = TREE / "etc/initramfs-tools/hooks/thresher-read-only"
    assert "blockdev" in hook.read_text(), "also in the initial system, which looks for the stick"
    assert hook.stat().st_mode & 0o111
    for entry in menu.grub_config().split("menuentry")[1:6]:
        for parameter in ("noswap", "noresume", "systemd.swap=no", "systemd.gpt_auto=no", "nopersistence"):
            assert parameter in entry
        assert "live-media=/dev/thresher-stick" in entry
    assert "systemd-pstore.service" in (HERE / "set-up").read_text(), "the machine's own memory of crashes stays"


def test_the_menu_has_an_entry_for_each_need() -> None:
    config = menu.grub_config()
    titles = re.findall(r'menuentry "([^"]+)"', config)
    assert titles[:5] == [
        "Thresher",
        "Thresher, safe graphics",
        "Thresher, everything in memory",
        "Memory only: the long check at once",
        "Text mode",
    ]
    by_title = dict(zip(titles, config.split("menuentry")[1:], strict=True))
    assert "nomodeset" in by_title["Thresher, safe graphics"]
    assert "toram" in by_title["Thresher, everything in memory"]
    assert "thresher.mode=memory" in by_title["Memory only: the long check at once"]
    assert "console=ttyS0,115200n8" in by_title["Text mode"]
    assert "set timeout=" in config, "after a crash nobody is there"
    assert menu.MARK in menu.first_config()


def test_the_menus_pictures_are_drawn(tmp_path: Path) -> None:
    menu.draw_pictures(tmp_path, HERE.parent / "src/thresher/ui/fonts")
    with Image.open(tmp_path / "paper.png") as paper:
        assert paper.size == (1024, 768)
        assert len(paper.getcolors(1 << 20) or ()) > 10, "type is on it"
    for name in re.findall(r'"(\w+)_\*\.png"', menu.theme_text()):
        assert (tmp_path / f"{name}_c.png").exists()


def test_the_image_starts_in_both_ways_and_leaves_room_for_jobs(tmp_path: Path) -> None:
    command = image_command(tmp_path / "content", tmp_path / "efi.img", tmp_path / "out.iso", 1_790_000_000)
    words = " ".join(command)
    assert "-append_partition 2 0xef" in words
    assert "boot_hybrid.img" in words
    assert "gpt" not in words, "its second copy would have to stand at each stick's end"
    assert command[-1] == str(tmp_path / "content")


def test_the_wheel_is_built_without_what_an_earlier_build_has_left(tmp_path: Path) -> None:
    project = tmp_path / "project"
    for name in ("src/thresher/run.py", "src/thresher/__pycache__/gone.cpython-311.pyc", "build/lib/thresher/gone.py"):
        (project / name).parent.mkdir(parents=True, exist_ok=True)
        (project / name).write_text("")
    (project / "pyproject.toml").write_text("[project]")
    copy_source(project, tmp_path / "clean")
    copied = sorted(str(path.relative_to(tmp_path / "clean")) for path in (tmp_path / "clean").rglob("*.*"))
    assert copied == ["pyproject.toml", "src/thresher/run.py"]
