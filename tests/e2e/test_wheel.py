"""The wheel as it is installed elsewhere: all that the program needs is in it, and every verb starts from there."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import thresher

ROOT = Path(thresher.__file__).parents[2]
SHEET = """
format = "thresher-sheet/1"
title = "Ten seconds"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = 10
"""
WINDOW = """
import sys
sys.path.insert(0, sys.argv[1])
import thresher
assert thresher.__file__.startswith(sys.argv[1]), thresher.__file__
from thresher.ui.app import make_app, take_down
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.window import MainWindow
from PyQt6.QtGui import QFontDatabase
app = make_app([])
assert any(family.startswith("B612") for family in QFontDatabase.families()), "the fonts are not there"
window = MainWindow(BenchState(), Look(), None)
window.show()
app.processEvents()
assert window.grab().width() > 900
take_down(app, window)
"""


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wheel, built from these sources and unpacked into a folder of its own."""
    folder = tmp_path_factory.mktemp("wheel")
    sources = folder / "sources"  # a copy, so that nothing is built into the tree
    shutil.copytree(ROOT / "src", sources / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    for name in ("pyproject.toml", "README.md"):
        shutil.copy(ROOT / name, sources / name)
    build = [sys.executable, "-m", "pip", "-q", "--disable-pip-version-check"]
    subprocess.run(
        [*build, "wheel", "--no-deps", "--no-build-isolation", "-w", str(folder), str(sources)], check=True, timeout=120
    )
    (wheel,) = folder.glob("thresher-*.whl")
    target = folder / "site"
    (folder / "s.toml").write_text(SHEET)
    rows = "".join(f"{n},{50 + n % 3}\n" for n in range(20))
    (folder / "theirs.csv").write_text(f"time,Socket [°C]\n{rows}", encoding="utf-8")
    subprocess.run([*build, "install", "--no-deps", "--target", str(target), str(wheel)], check=True, timeout=120)
    made = ("run", "s.toml", "--simulate", "ferry-office", "--speed", "0", "--job", "j.thresher")
    assert run(target, folder, "-m", "thresher.cli", *made).returncode == 0
    return target


VERBS = (
    (("--help",), 0, "Examples"),
    (("inventory", "--simulate", "ferry-office"), 0, "simulated machine"),
    (("watch", "--simulate", "ferry-office", "--seconds", "2", "--speed", "0"), 0, "Package id 0"),
    (("run", "s.toml", "--simulate", "ferry-office", "--speed", "0", "--job", "j.thresher"), 0, "clean"),
    (("verdict", "j.thresher"), 0, "No fault found"),
    (("bad-pages", "j.thresher"), 0, ""),
    (("report", "j.thresher", "--out", "r.html"), 0, ""),
    (("decode", "P-310"), 0, "Corrected machine check"),
    (("scenario", "check", "museum-guide"), 0, "cell stuck"),
    (("capture", "--simulate", "ferry-office", "--out", "m.tar.gz"), 0, ""),
    (("prove", "--cases", "1", "--seed", "33", "--policy", "fixed-order", "--processes", "1"), 0, "1 cases"),
    (("import", "theirs.csv"), 0, ""),
    (("log",), 0, ""),
    (("bench-speed", "--help"), 0, "speed"),
    (("demo", "--help"), 0, "demo"),
)
"""What is given, the exit code, and something that is printed."""


def run(installed: Path, tmp_path: Path, *command: str) -> subprocess.CompletedProcess[str]:
    environment = os.environ | {
        "QT_QPA_PLATFORM": "offscreen",
        "XDG_DATA_HOME": str(tmp_path / "data"),
        "PYTHONPATH": str(installed),
    }
    return subprocess.run(
        [sys.executable, *command], cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=120
    )


def test_the_wheel_is_whole_and_everything_starts_from_it(installed: Path, tmp_path: Path) -> None:
    source = ROOT / "src"
    wanted = {
        path.relative_to(source)
        for path in (source / "thresher").rglob("*")
        if path.is_file() and "__pycache__" not in path.parts
    }
    assert {path for path in wanted if not (installed / path).is_file()} == set()
    done = run(installed, tmp_path, "-c", WINDOW, str(installed))
    assert done.returncode == 0, done.stderr
    folder = installed.parent
    for words, code, printed in VERBS:
        done = run(installed, folder, "-m", "thresher.cli", *words)
        assert done.returncode == code, f"{words}: {done.stdout}{done.stderr}"
        assert printed in done.stdout + done.stderr, words
