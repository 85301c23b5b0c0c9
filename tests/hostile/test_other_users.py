"""Other users of the same computer: their folders are not trusted, and ours are closed to them."""

import os
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from thresher.app.launch import runtime_folder, start_engine_process
from thresher.app.paths import jobs_folder
from thresher.journal.jobfile import create_job
from thresher.model.errors import EnvironmentFault
from thresher.model.private_folder import private_folder

NOBODY = 65534


def mode(path: Path) -> int:
    return stat.S_IMODE(path.stat().st_mode)


def test_a_folder_is_made_private_all_the_way(tmp_path: Path) -> None:
    made = private_folder(tmp_path / "a" / "b")
    assert (mode(made), mode(made.parent)) == (0o700, 0o700)
    made.chmod(0o775)
    assert mode(private_folder(made)) == 0o700


def test_a_link_or_file_in_its_place_is_refused(tmp_path: Path) -> None:
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "link").symlink_to(tmp_path / "elsewhere")
    (tmp_path / "file").write_text("")
    for name in ("link", "file"):
        with pytest.raises(EnvironmentFault, match="a link or no folder"):
            private_folder(tmp_path / name)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give a folder to another user")
def test_a_folder_of_another_user_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("XDG_RUNTIME_DIR", raising=False)
    monkeypatch.setattr("tempfile.gettempdir", lambda: str(tmp_path))
    waiting = tmp_path / f"thresher-{os.geteuid()}"
    waiting.mkdir()
    os.chown(waiting, NOBODY, NOBODY)
    with pytest.raises(EnvironmentFault, match=f"belongs to user {NOBODY}"):
        runtime_folder()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give a folder to another user")
def test_root_reads_no_compiled_loads_from_another_s_home(tmp_path: Path) -> None:
    cache = tmp_path / "cache" / "thresher"
    (cache / "kernels").mkdir(parents=True)
    for folder in (cache, cache / "kernels"):
        os.chown(folder, NOBODY, NOBODY)
    program = "import os, thresher.loads.kernels; print(os.environ['NUMBA_CACHE_DIR'])"
    environment = os.environ | {"XDG_CACHE_HOME": str(cache.parent), "TMPDIR": str(tmp_path)}
    environment.pop("NUMBA_CACHE_DIR", None)
    done = subprocess.run([sys.executable, "-c", program], env=environment, capture_output=True, text=True, check=True)
    assert done.stdout.strip() == str(tmp_path / f"thresher-{os.geteuid()}" / "kernels")


def test_a_log_is_never_written_through_a_link(tmp_path: Path) -> None:
    victim = tmp_path / "victim"
    victim.write_text("mine\n")
    folder = private_folder(tmp_path / "run")
    (folder / "engine.log").symlink_to(victim)
    with pytest.raises(OSError, match="symbolic links"):
        start_engine_process(folder / "s.sock", ["--help"], folder / "engine.log")
    assert victim.read_text() == "mine\n"


def test_jobs_are_for_this_user_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    folder = jobs_folder(simulated=False)
    job = folder / "one.thresher"
    create_job(job, {"number": "0431"})
    assert (mode(folder), mode(job)) == (0o700, 0o600)
