"""The command line as a person uses it: words, JSON, exit codes, and errors without a traceback."""

import json
import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Run
from thresher.app.launch import why_no_display
from thresher.cli.renamed import with_present_names
from thresher.codes.directory import load_codes, parse_codes
from thresher.compose.sheet_file import load_sheet
from thresher.diagnosis.decision import read_prices
from thresher.importers.csv_log import read_log
from thresher.journal.jobfile import JobFile
from thresher.machine.tree import TreeSystem
from thresher.model.errors import InputError
from thresher.simulator.scenario import load_scenario

SHORT = """
format = "thresher-sheet/1"
title = "Short"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = {}
"""


def test_a_run_on_a_simulated_machine_finds_and_reports(thresher: Run, tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(SHORT.format(420))
    done = thresher(
        "run", "s.toml", "--simulate", "lighthouse-playout", "--speed", "0", "--job", "j.thresher", "--json"
    )
    assert done.returncode == 1, done.stderr
    result = json.loads(done.stdout)
    assert result["run"]["outcome"] == "faults found"
    assert {"P-310"} <= {finding["code"] for finding in result["findings"]}
    top = [suspect["mode"] for suspect in result["verdict"]["suspects"][:2]]
    assert set(top) == {"processor.weak-core", "cooling.clogged"}
    assert result["machine"]["simulated"] is True

    shown = thresher("verdict", "j.thresher")
    assert shown.returncode == 1
    assert "Processor, core 5" in shown.stdout
    assert "Next: " in shown.stdout
    again = thresher("verdict", "j.thresher", "--json")
    assert json.loads(again.stdout)["suspects"][0]["mode"] == "processor.weak-core"
    for ending in ("html", "csv", "json"):
        assert thresher("report", "j.thresher", "--out", f"r.{ending}").returncode == 0
        assert (tmp_path / f"r.{ending}").stat().st_size > 1000
    refused = thresher("report", "j.thresher", "--out", "r.doc")
    assert refused.returncode == 2
    assert ".html, .csv, .jsonl, .json, .parquet or .png" in refused.stderr


def test_a_healthy_simulated_machine_ends_with_nought(thresher: Run, tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(SHORT.format(60))
    done = thresher("run", "s.toml", "--simulate", "ferry-office", "--speed", "0")
    assert done.returncode == 0, done.stderr
    assert "Run finished: clean" in done.stdout
    assert "8 of 8 workers have ended" in done.stdout
    assert list((tmp_path / "data/thresher/demo-bench/jobs").glob("*-counter-2.thresher"))


def test_a_real_load_runs_on_this_computer(thresher: Run, tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(SHORT.format(6))
    done = thresher("run", "s.toml", "--job", "live.thresher", "--json")
    assert done.returncode in (0, 1), done.stdout + done.stderr
    result = json.loads(done.stdout)
    # a test beside this one lets a real block device fail, and the kernel log is the same for both
    assert {finding["part"] for finding in result["findings"]} <= {"drive"}
    assert result["machine"]["simulated"] is False
    assert result["run"]["beats"] > 10
    assert (result["run"]["mismatches"], result["run"]["ending"]) == (0, "finished")


def test_inventory_in_words_and_json(thresher: Run) -> None:
    words = thresher("inventory", "--simulate", "lighthouse-playout")
    assert words.returncode == 0
    assert "simulated machine" in words.stdout
    assert "memory A2: Mussel Bank MB-16D5-5600" in words.stdout
    assert "ATX12V design guide" in words.stdout
    data = json.loads(thresher("inventory", "--json").stdout)
    assert data["inventory"]["cpus"]


def test_inventory_of_a_tree(thresher: Run, tmp_path: Path) -> None:
    (tmp_path / "tree/proc").mkdir(parents=True)
    (tmp_path / "tree/proc/cpuinfo").write_text("processor : 0\nmodel name : Old Oyster\n")
    done = thresher("inventory", "--root", "tree")
    assert "Old Oyster" in done.stdout
    assert "Not known" in done.stdout
    wrong = thresher("inventory", "--root", "nowhere")
    assert wrong.returncode == 2
    assert "not a directory" in wrong.stderr
    both = thresher("inventory", "--root", "tree", "--simulate", "ferry-office")
    assert both.returncode == 2


def test_watch_prints_readings_and_writes_csv(thresher: Run, tmp_path: Path) -> None:
    done = thresher("watch", "--simulate", "ferry-office", "--seconds", "5", "--speed", "0", "--csv", "w.csv")
    assert done.returncode == 0, done.stderr
    assert "Package id 0 " in done.stdout
    shown = [line for line in done.stdout.splitlines() if "headroom" in line]
    assert len(shown) == 4  # the first reading has no rates yet
    assert "missing" not in done.stdout
    assert all(len(line) < 100 for line in shown)
    lines = (tmp_path / "w.csv").read_text().splitlines()
    assert lines[0].startswith("time,Package id 0 [°C],")
    assert lines[1].startswith("2026-03-18T08:30:00")
    assert len(lines) == 6
    rows = thresher("watch", "--simulate", "ferry-office", "--seconds", "2", "--speed", "0", "--json").stdout
    assert all("values" in json.loads(row) for row in rows.splitlines())


def test_loads_run_without_a_sheet(thresher: Run, tmp_path: Path) -> None:
    machine = ("--simulate", "lighthouse-playout", "--speed", "0", "--json")
    done = thresher(
        "run", "--load", "matrix", "--cores", "0-3", "--load", "memory", "--amount", "25%", "--for", "30s", *machine
    )
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["run"]["outcome"] == "clean"
    first, second = told["sheet"]["blocks"]
    assert (first["load"], first["cores"], first["length_s"]) == ("matrix", [0, 1, 2, 3], 30.0)
    assert (second["load"], second["cores"], second["share"]) == ("memory", [], 0.25)
    assert [each["start_s"] for each in told["run"]["plan"]] == [0.0, 0.0]

    one_by_one = thresher("run", "--load", "matrix", "--load", "integer", "--after-another", "--for", "20s", *machine)
    assert [each["title"] for each in json.loads(one_by_one.stdout)["run"]["plan"]] == [
        "matrix, shared cache",
        "cool down",
        "integer, shared cache",
    ]


def test_what_is_wrong_with_loads_without_a_sheet_is_said_at_once(thresher: Run) -> None:
    wrong = thresher("run", "--load", "matrx", "--cores", "0-x", "--for", "long", "--stop-at", "never", "short-round")
    assert wrong.returncode == 2
    for words in ("leave out the sheet 'short-round'", "there is no load 'matrx'", "--cores:", "--for:", "--stop-at:"):
        assert words in wrong.stderr
    both = thresher("run", "--load", "matrix", "--load", "integer")
    assert "use --after-another for one after the other" in both.stderr
    beyond = thresher("run", "--load", "matrix", "--cores", "12", "--simulate", "ferry-office", "--speed", "0")
    assert (beyond.returncode, beyond.stdout) == (2, "")
    assert "this machine has no core 12; it has 0-3" in beyond.stderr
    assert "name a run sheet, or loads with --load" in thresher("run").stderr


def test_the_loads_are_listed_with_what_they_find(thresher: Run) -> None:
    listed = thresher("run", "--list").stdout
    assert "relay (processor)" in listed
    assert "finds    cells, address lines, contacts, the controller, and timings that are too tight" in listed
    told = json.loads(thresher("run", "--list", "--json").stdout)
    assert {each["load"] for each in told} >= {"matrix", "memory", "precision"}


def test_what_happened_before_anybody_listened_is_printed(thresher: Run, tmp_path: Path) -> None:
    (tmp_path / "tree/dev").mkdir(parents=True)
    (tmp_path / "tree/proc").mkdir()
    (tmp_path / "tree/proc/cpuinfo").write_text("processor : 3\nvendor_id : GenuineIntel\n")
    line = "4,1,1500,-;mce: [Hardware Error]: CPU 3: Machine Check: 0 Bank 1: 9c00004000000135\n"
    (tmp_path / "tree/dev/kmsg").write_text("6,0,1000,-;Linux version\n" + line)
    done = thresher("watch", "--root", "tree", "--seconds", "1")
    assert done.returncode == 0, done.stderr
    assert "Bench open" in done.stdout
    assert "1 hardware event from before the bench was opened" in done.stdout
    assert "P-310  before: " in done.stdout


def test_decode_codes_registers_files_and_standard_input(thresher: Run, tmp_path: Path) -> None:
    code = thresher("decode", "p-310")
    assert (code.returncode, "Corrected machine check" in code.stdout) == (0, True)
    register = thresher("decode", "0x9c00004000000135")
    assert "Corrected: data cache, level 1, data read" in register.stdout
    log = "[ 1.5] mce: [Hardware Error]: CPU 3: Machine Check: 0 Bank 1: 9c00004000000135\n"
    (tmp_path / "dmesg.txt").write_text(log)
    for done in (thresher("decode", "dmesg.txt"), thresher("decode", "-", stdin=log), thresher("decode", log)):
        assert done.returncode == 1
        assert "P-310  Machine check, CPU 3" in done.stdout
    assert json.loads(thresher("decode", "dmesg.txt", "--json").stdout)["things"][0]["code"] == "P-310"
    (thing,) = json.loads(thresher("decode", "9c00004000000135", "--json").stdout)["things"]
    assert thing["shares"][0] == {"part": "processor", "share": 0.85}
    quiet = thresher("decode", "-", stdin="nothing of note\n")
    assert (quiet.returncode, quiet.stdout.strip()) == (0, "1 line read: 0 signs of trouble")
    long = thresher("decode", "-", stdin="[ 1.0] nothing of note\n" * 400 + log)
    assert "401 lines read: 1 sign of trouble" in long.stdout
    typed = thresher("decode", "-", stdin="0xbe00000000800400\n")
    assert (typed.returncode, "internal timer error" in typed.stdout) == (1, True)
    stop = thresher("decode", "0x124 (0x0, 0xffffa2831f2f1028, 0xbe000000, 0x00800400)")
    assert (stop.returncode, "internal timer error" in stop.stdout) == (1, True)
    harmless = thresher("decode", "usb 1-2: USB disconnect, device number 5")
    assert (harmless.returncode, "No evidence against hardware" in harmless.stdout) == (0, True)
    wrong = thresher("decode", "gibberish!")
    assert wrong.returncode == 2
    assert "expected a fault code" in wrong.stderr


def test_names_from_before_are_still_read_with_a_note_and_present_ones_without() -> None:
    old = ["run", "short-round", "--bench-model=ferry-office", "--bench-model", "x"]
    present, notes = with_present_names(old)
    assert present == ["run", "short-round", "--simulate=ferry-office", "--simulate", "x"]
    assert notes == ["Note: --bench-model is now called --simulate."] * 2
    assert with_present_names(["bench-model", "check", "x"]) == (
        ["scenario", "check", "x"],
        ["Note: bench-model is now called scenario."],
    )
    now = ["run", "bench-model", "--simulate", "x"]  # a sheet may have any name
    assert with_present_names(now) == (now, [])


def test_a_pipe_is_refused_at_once_where_a_file_is_meant(tmp_path: Path) -> None:
    pipe = tmp_path / "sheet.toml"
    os.mkfifo(pipe)
    for read in (load_sheet, load_scenario, read_prices, read_log):
        with pytest.raises(InputError, match="it is not a regular file"):
            read(pipe)
    assert TreeSystem(tmp_path).read_start("/sheet.toml", 10) == b""


def test_a_scenario_can_be_checked(thresher: Run, tmp_path: Path) -> None:
    done = thresher("scenario", "check", "lighthouse-playout")
    assert done.returncode == 0
    assert "weak core on core 5" in done.stdout
    (tmp_path / "bad.toml").write_text('format = "thresher-bench-model/1"\ntitle = "x"\nmachine = "y"\n')
    wrong = thresher("scenario", "check", "bad.toml")
    assert wrong.returncode == 2
    assert "processor" in wrong.stderr
    assert "board" in wrong.stderr


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("run", "nowhere.toml"), "nowhere.toml cannot be used"),
        (("run", "short-round", "--simulate", "nowhere.toml"), "nowhere.toml cannot be used"),
        (("verdict", "nowhere.thresher"), "there is no such file"),
        (("report", "nowhere.thresher", "--out", "x.html"), "there is no such file"),
        ((), "there is no display"),
    ],
)
def test_what_cannot_be_done_is_reported_without_a_traceback(
    thresher: Run, arguments: tuple[str, ...], words: str
) -> None:
    done = thresher(*arguments)
    assert done.returncode == 2
    assert words in done.stderr
    assert "Traceback" not in done.stderr


def test_the_demo_without_a_display_goes_to_its_end(thresher: Run, tmp_path: Path) -> None:
    done = thresher("demo", "--out", "left")
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith("The demo runs without a window: there is no display")
    assert "Replace the processor: core 5 is weak" in done.stdout
    assert {path.suffix for path in (tmp_path / "left").iterdir()} >= {".html", ".png", ".thresher"}


def test_the_directory_of_codes_is_healthy_and_covers_what_is_used() -> None:
    codes = load_codes()
    source = Path(__file__).parents[2] / "src/thresher"
    used = {
        word
        for path in source.rglob("*.py")
        for word in re.findall(r"\b[A-Z]-\d{3}\b", path.read_text(encoding="utf-8"))
    }
    assert used
    assert used <= set(codes)
    assert all(entry.meaning and entry.causes and entry.steps for entry in codes.values())


def test_codes_given_twice_or_of_a_wrong_form_are_refused() -> None:
    entry = '[[codes]]\ncode = "{}"\ntitle = "t"\nmeaning = "m"\ncauses = ["c"]\nsteps = ["s"]\n'
    text = 'format = "thresher-codes/1"\n' + entry.format("P-104") * 2 + entry.format("p104")
    with pytest.raises(InputError) as caught:
        parse_codes(text, "c.toml")
    assert "given twice" in str(caught.value)
    assert "capital letter" in str(caught.value)


def test_a_display_that_is_named_but_not_there_is_reported(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("QT_QPA_PLATFORM", raising=False)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    monkeypatch.setenv("DISPLAY", ":4321")
    assert "no display answers at DISPLAY=':4321'" in str(why_no_display())
    monkeypatch.setenv("DISPLAY", "elsewhere:0")
    assert why_no_display() is None
    monkeypatch.delenv("DISPLAY")
    assert "not set" in str(why_no_display())
    monkeypatch.setenv("QT_QPA_PLATFORM", "offscreen")
    assert why_no_display() is None


def test_a_run_is_stopped_in_order_by_ctrl_c(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(SHORT.format(600))
    with subprocess.Popen(
        [sys.executable, "-m", "thresher.cli", "run", "s.toml", "--job", "j.thresher"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,
    ) as process:
        assert process.stdout is not None
        seen = next(line for line in process.stdout if "every result checked" in line)
        assert "matrix, shared cache" in seen
        process.send_signal(signal.SIGINT)
        rest = process.stdout.read()
        assert process.wait(30) == 2
    assert "workers have ended" in rest
    assert "Run stopped: could not tell" in rest
    with JobFile(tmp_path / "j.thresher") as stored:
        assert stored.runs()[0].ending == "stopped"


def test_bad_memory_of_a_run_is_named_and_becomes_boot_parameters(thresher: Run, tmp_path: Path) -> None:
    text = 'format = "thresher-sheet/1"\ntitle = "Memory"\n[[blocks]]\nrow = "memory"\nload = "memory"\nstart = 0\n'
    (tmp_path / "m.toml").write_text(text + "length = 8\n")
    done = thresher("run", "m.toml", "--simulate", "museum-guide", "--speed", "0", "--job", "m.thresher")
    assert done.returncode == 1, done.stderr
    assert "Wrong memory word, B2" in done.stdout
    assert "one cell, which points at a cell of one module; all in B2" in done.stdout
    assert "Replace the memory: B2" in done.stdout
    pages = thresher("bad-pages", "m.thresher")
    assert pages.returncode == 1
    assert "1 bad page." in pages.stdout
    assert "memmap=4K$0x" in pages.stdout
    as_json = json.loads(thresher("bad-pages", "m.thresher", "--json").stdout)
    assert 8 << 30 <= as_json["pages"][0] < 16 << 30
    assert as_json["shape"]["bits"] == [19]


def test_a_simulated_machine_is_explained(thresher: Run) -> None:
    shown = thresher("scenario", "check", "museum-guide")
    assert shown.returncode == 0
    assert "cell stuck in B2, 41 % up, bit 19: 1, content that the bit is stuck at" in shown.stdout


def test_a_check_asks_in_the_terminal_and_goes_on_meanwhile(thresher: Run) -> None:
    done = thresher("check", "run", "USB ports", "picture", "--ask", "--simulate", "ferry-office", stdin="what\nx\nd\n")
    assert done.returncode == 1, done.stderr
    assert "USB ports: Plug the stick into the next port" in done.stdout
    assert "Type one of N, D, X." in done.stdout
    assert "a stick in this port is not seen" in done.stdout
    assert "This needs the window" in done.stdout
    assert "1 failed; 0 passed, 1 inconclusive" in done.stdout


def test_nobody_at_the_terminal_leaves_the_questions(thresher: Run) -> None:
    done = thresher("check", "run", "USB ports", "--ask", "--simulate", "ferry-office", stdin="")
    assert done.returncode == 2
    assert "no stick was plugged in" in done.stdout


def test_proving_prints_scores_and_json(thresher: Run) -> None:
    done = thresher("prove", "--cases", "2", "--seed", "33", "--policy", "fixed-order", "--processes", "1", "--each")
    assert done.returncode == 0, done.stderr
    assert "Repair strategy fixed-order, 2 cases, seed 33" in done.stdout
    assert "bench minutes per job" in done.stdout
    asked = thresher(
        "prove", "--cases", "1", "--seed", "33", "--policy", "fixed-order", "--processes", "1", "--each", "--json"
    )
    shown = json.loads(asked.stdout)
    assert shown["score"]["cases"] == 1
    assert len(shown["score"]["tenths"]) == 10
    assert len(shown["cases"]) == 1


def test_an_unknown_policy_is_refused_with_what_there_is(thresher: Run) -> None:
    done = thresher("prove", "--cases", "1", "--policy", "by-feeling")
    assert done.returncode == 2
    assert "fixed-order" in done.stderr
