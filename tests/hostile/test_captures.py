"""Captures that somebody else has made: nothing is written outside, nothing followed, and damage is noticed."""

import gzip
import io
import os
import tarfile
from collections.abc import Callable
from pathlib import Path

import pytest

from thresher.machine import unpack as unpacking
from thresher.machine.capture import CapturedSystem
from thresher.machine.tree import TreeSystem
from thresher.model.errors import InputError, SourceUnavailable

Member = tuple[tarfile.TarInfo, bytes]


def a_file(name: str, content: bytes = b"61000\n") -> Member:
    info = tarfile.TarInfo(name)
    info.size = len(content)
    return info, content


def a_link(name: str, target: str) -> Member:
    info = tarfile.TarInfo(name)
    info.type, info.linkname = tarfile.SYMTYPE, target
    return info, b""


@pytest.fixture
def capture(tmp_path: Path) -> Callable[..., Path]:
    def make(*members: Member) -> Path:
        raw = io.BytesIO()
        with tarfile.open(fileobj=raw, mode="w", format=tarfile.GNU_FORMAT) as tar:
            for info, content in members:
                tar.addfile(info, io.BytesIO(content))
        path = tmp_path / "m.tar.gz"
        path.write_bytes(gzip.compress(raw.getvalue()))
        return path

    return make


def opened(path: Path) -> CapturedSystem:
    return CapturedSystem(path)


def test_a_file_in_the_place_of_a_link_is_refused_and_writes_nowhere(
    capture: Callable[..., Path], tmp_path: Path
) -> None:
    victim = tmp_path / "victim"
    victim.write_text("mine\n")
    for members in (
        (a_link("a", str(victim)), a_file("a", b"theirs\n")),
        (a_link("sys", str(tmp_path)), a_file("sys/victim", b"theirs\n")),
        (a_file("proc", b"x"), a_file("proc/victim", b"theirs\n")),
    ):
        with pytest.raises(InputError, match=r"there twice|through a link"):
            opened(capture(*members))
        assert victim.read_text() == "mine\n"


@pytest.mark.parametrize("name", ["/etc/passwd", "../up", "sys/../../up", "a/" * 60 + "b", "n" * 300, "d/" * 600])
def test_names_that_lead_astray_or_are_too_long_are_refused(capture: Callable[..., Path], name: str) -> None:
    with pytest.raises(InputError, match=r"outside the capture|too long or too deep"):
        opened(capture(a_file(name)))


def test_links_are_followed_inside_the_tree_only(capture: Callable[..., Path], tmp_path: Path) -> None:
    secret = tmp_path / "secret"
    secret.write_text("of this computer\n")
    system = opened(
        capture(
            a_link("dev/kmsg", str(secret)),
            a_link("proc/cpuinfo", "/../../../.." + str(secret)),
            a_file("sys/class/real", b"7\n"),
            a_link("sys/class/alias", "real"),
        )
    )
    assert system.read("/sys/class/alias") == b"7\n"
    with pytest.raises(SourceUnavailable):
        system.read("/proc/cpuinfo")
    with pytest.raises(SourceUnavailable):
        system.open_kernel_log()
    system.close()


def test_the_kernel_log_of_a_tree_is_never_this_computer_s(tmp_path: Path) -> None:
    (tmp_path / "tree/dev").mkdir(parents=True)
    outside = tmp_path / "kmsg"
    outside.write_text("4,1,1,-;mce: [Hardware Error]: of this computer\n")
    (tmp_path / "tree/dev/kmsg").symlink_to(outside)
    with pytest.raises(SourceUnavailable):
        TreeSystem(tmp_path / "tree").open_kernel_log()


def test_a_turned_byte_anywhere_is_noticed(capture: Callable[..., Path]) -> None:
    path = capture(*(a_file(f"sys/class/hwmon/hwmon0/temp{n}_input", b"%d\n" % (61000 + n)) for n in range(40)))
    whole = path.read_bytes()
    opened(path).close()
    for place in range(12, len(whole), max(1, len(whole) // 60)):
        path.write_bytes(whole[:place] + bytes([whole[place] ^ 0x10]) + whole[place + 1 :])
        with pytest.raises(InputError):
            opened(path)
    path.write_bytes(whole[:-30])
    with pytest.raises(InputError):
        opened(path)


def test_bombs_are_refused_before_they_are_written(
    capture: Callable[..., Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(unpacking, "MOST_MEMBERS", 500)
    with pytest.raises(InputError, match="more than 500 members"):
        opened(capture(*(a_file(f"f{n}", b"") for n in range(501))))
    monkeypatch.setattr(unpacking, "LARGEST", 1 << 20)
    with pytest.raises(InputError, match="more than 1 MiB"):
        opened(capture(a_file("big", bytes(2 << 20))))
    long_name = tarfile.TarInfo("x")
    long_name.type, long_name.size = tarfile.GNUTYPE_LONGNAME, 40 << 20
    with pytest.raises(InputError, match=r"longer than any can be|more than"):
        opened(capture((long_name, bytes(40 << 20)), a_file("a")))


def test_what_is_no_file_is_refused_without_waiting(tmp_path: Path) -> None:
    pipe = tmp_path / "pipe.tar.gz"
    os.mkfifo(pipe)
    with pytest.raises(InputError, match="not a regular file"):
        opened(pipe)
