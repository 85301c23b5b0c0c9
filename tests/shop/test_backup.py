"""The bench as one file and back: everything comes back, nothing is overwritten, nothing foreign gets in."""

import io
import json
import shutil
import stat
import tarfile
from pathlib import Path

import pytest

from tests.seal.conftest import change
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.model.errors import EnvironmentFault, InputError
from thresher.seal.keys import key_path, shop_key
from thresher.shop.backup import back_up, restore


@pytest.fixture
def bench(tmp_path: Path, finished_job: Path) -> Path:
    folder = tmp_path / "bench"
    (folder / "jobs").mkdir(parents=True)
    shutil.copy(finished_job, folder / "jobs" / "0417.thresher")
    shop_key(folder / "shop")
    (folder / "shop" / "sheets").mkdir()
    (folder / "shop" / "sheets" / "night.toml").write_text("format = 1\n", encoding="utf-8")
    return folder


def test_everything_comes_back_as_it_was(bench: Path, tmp_path: Path) -> None:
    out = tmp_path / "bench.tar.gz"
    made = back_up(bench, out)
    assert (made.jobs, made.left_out) == (1, ())
    assert stat.S_IMODE(out.stat().st_mode) == 0o600
    other = tmp_path / "other"
    put = restore(out, other)
    assert (put.new, put.same, put.aside) == (made.files, 0, ())
    assert key_path(other / "shop").read_bytes() == key_path(bench / "shop").read_bytes()
    assert stat.S_IMODE(key_path(other / "shop").stat().st_mode) == 0o600
    assert (other / "shop" / "sheets" / "night.toml").read_text() == "format = 1\n"
    with JobFile(other / "jobs" / "0417.thresher") as back, JobFile(bench / "jobs" / "0417.thresher") as before:
        assert [row.data for row in back.canonical_rows(1, 10**9)] == [r.data for r in before.canonical_rows(1, 10**9)]
    assert restore(out, other).same == made.files
    assert sorted(each.name for each in other.iterdir()) == ["jobs", "shop"]


def test_a_job_is_backed_up_while_a_bench_writes_to_it(bench: Path, tmp_path: Path) -> None:
    writer = JournalWriter(bench / "jobs" / "0417.thresher")
    writer.set_job({"words": "typed just now"})
    writer.settle(5)
    back_up(bench, tmp_path / "b.tar.gz")
    writer.close()
    restore(tmp_path / "b.tar.gz", tmp_path / "other")
    with JobFile(tmp_path / "other" / "jobs" / "0417.thresher") as stored:
        assert stored.job()["words"] == "typed just now"


def test_what_is_in_the_way_is_named_and_moved_aside_only_when_asked(bench: Path, tmp_path: Path) -> None:
    out = tmp_path / "b.tar.gz"
    back_up(bench, out)
    (bench / "shop" / "sheets" / "night.toml").write_text("newer\n", encoding="utf-8")
    with pytest.raises(InputError, match=r"shop/sheets/night\.toml: is there with other content"):
        restore(out, bench)
    assert (bench / "shop" / "sheets" / "night.toml").read_text() == "newer\n"
    put = restore(out, bench, replace=True)
    assert put.aside == ("night.toml.before-restore-1",)
    assert (bench / "shop" / "sheets" / "night.toml").read_text() == "format = 1\n"
    assert (bench / "shop" / "sheets" / "night.toml.before-restore-1").read_text() == "newer\n"
    change(bench / "jobs" / "0417.thresher", "UPDATE ticks SET late = 9")
    with pytest.raises(InputError, match=r"jobs/0417\.thresher: is there"):
        restore(out, bench)


def test_a_job_in_use_is_not_replaced(bench: Path, tmp_path: Path) -> None:
    out = tmp_path / "b.tar.gz"
    back_up(bench, out)
    writer = JournalWriter(bench / "jobs" / "0417.thresher")
    writer.set_job({"words": "newer"})
    writer.settle(5)
    with pytest.raises(InputError, match="has it open"):
        restore(out, bench, replace=True)
    writer.close()


def test_every_kind_of_damage_is_found_before_anything_is_put_back(bench: Path, tmp_path: Path) -> None:
    out, target = tmp_path / "b.tar.gz", tmp_path / "target"
    back_up(bench, out)
    whole = out.read_bytes()
    for place in (0, len(whole) // 4, len(whole) // 3, len(whole) // 2):
        out.write_bytes(whole[:place] + bytes([whole[place] ^ 0x10]) + whole[place + 1 :])
        with pytest.raises((InputError, EnvironmentFault)):
            restore(out, target)
    out.write_bytes(whole[: len(whole) // 2])
    with pytest.raises((InputError, EnvironmentFault)):
        restore(out, target)
    out.write_bytes(b"")
    with pytest.raises(InputError, match="damaged or no backup"):
        restore(out, target)
    assert list(target.rglob("*")) == []
    with pytest.raises(EnvironmentFault, match="there is no such file"):
        restore(tmp_path / "nowhere", target)


def _archive(path: Path, listed: list[dict[str, object]], members: list[tarfile.TarInfo], version: str = "1") -> None:
    head = json.dumps({"format": f"thresher-backup/{version}", "made": 0.0, "files": listed}).encode()
    with tarfile.open(path, "w:gz") as archive:
        for member in members:
            archive.addfile(member, io.BytesIO(b"x" * member.size) if member.isfile() else None)
        info = tarfile.TarInfo("backup.json")
        info.size = len(head)
        archive.addfile(info, io.BytesIO(head))


def test_nothing_is_put_outside_of_the_bench(tmp_path: Path) -> None:
    out = tmp_path / "evil.tar.gz"
    digest = "2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881"  # of one x (sha256sum)
    for name in ("../evil", "/etc/evil", "jobs/../../evil", "other/evil"):
        member = tarfile.TarInfo(name)
        member.size = 1
        _archive(out, [{"name": name, "size": 1, "sha256": digest}], [member])
        with pytest.raises(InputError, match="outside of the bench"):
            restore(out, tmp_path / "target")
    link = tarfile.TarInfo("jobs/link")
    link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
    _archive(out, [{"name": "jobs/link", "size": 0, "sha256": digest}], [link])
    with pytest.raises(InputError, match="no such file"):
        restore(out, tmp_path / "target")
    _archive(out, [], [], "9")
    with pytest.raises(InputError, match='expected "thresher-backup/1"'):
        restore(out, tmp_path / "target")
    assert not (tmp_path / "evil").exists()


def test_a_full_disk_leaves_no_half_backup(bench: Path, tmp_path: Path) -> None:
    with pytest.raises(EnvironmentFault, match="No such file or directory"):
        back_up(bench, tmp_path / "nowhere" / "b.tar.gz")
    with pytest.raises(EnvironmentFault, match="nothing to back up"):
        back_up(tmp_path / "empty", tmp_path / "b.tar.gz")
    (tmp_path / ".b.tar.gz.part").write_bytes(b"")
    with pytest.raises(EnvironmentFault, match="another backup into this file has begun"):
        back_up(bench, tmp_path / "b.tar.gz")
    (tmp_path / ".b.tar.gz.part").unlink()
    assert not (tmp_path / "b.tar.gz").exists()
