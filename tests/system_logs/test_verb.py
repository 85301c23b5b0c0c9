"""`thresher system-logs` and `thresher decode` on logs of the other desktop system, from the outside."""

import json
import re
from pathlib import Path

import pytest

from tests.conftest import Run
from tests.system_logs.conftest import NOON
from thresher.journal.jobfile import JobFile
from thresher.simulator.event_log_writer import Event, write_log

DR0 = r"\Device\Harddisk0\DR0"
HOUR = 3600.0


def drive(root: Path) -> Path:
    """A drive whose system ran for two hours and lost a block of its drive, on two days."""
    logs = root / "Windows" / "System32" / "winevt" / "Logs"
    logs.mkdir(parents=True)
    events = []
    for day in (0, 1):
        begin = NOON + day * 24 * HOUR
        events += [
            Event("Microsoft-Windows-Kernel-General", 12, begin),
            Event("disk", 7, begin + HOUR, (DR0,)),
            Event("DCOM", 10016, begin + HOUR + 1),
            Event("EventLog", 6006, begin + 2 * HOUR),
        ]
    (logs / "System.evtx").write_bytes(write_log(events))
    return root


def test_nothing_is_read_before_somebody_says_that_the_customer_has_agreed(thresher: Run, tmp_path: Path) -> None:
    done = thresher("system-logs", str(drive(tmp_path / "drive")))
    assert done.returncode == 2
    assert done.stdout == "Nothing was read. Add --yes once the customer has agreed.\n"


def test_the_logs_of_a_system_are_printed(thresher: Run, tmp_path: Path) -> None:
    done = thresher("system-logs", str(drive(tmp_path / "drive")), "--yes")
    assert done.returncode == 1, "faults found"
    for expected in (
        "System.evtx: 8 events, 2 of them evidence",
        "2026-03-03 to 2026-03-04  D-310  2 × Bad block on a drive, drive 0",
        "In use for 4 hours on 2 days, 2026-03-03 to 2026-03-04",
        "2 × A program lacks a permission",
    ):
        assert expected in done.stdout


def test_json_has_times_and_hours(thresher: Run, tmp_path: Path) -> None:
    done = thresher("system-logs", str(drive(tmp_path / "drive")), "--yes", "--json")
    (system,) = json.loads(done.stdout)["systems"]
    assert [each["at"] for each in system["findings"]] == [NOON + HOUR, NOON + 25 * HOUR]
    assert [(each["day"], each["hours"]) for each in system["use"]] == [("2026-03-03", 2.0), ("2026-03-04", 2.0)]


def test_it_is_added_to_a_job_with_its_own_times_and_hours(thresher: Run, tmp_path: Path) -> None:
    job = tmp_path / "a.thresher"
    done = thresher("system-logs", "--simulate", "school-library", "--job", str(job))
    assert done.returncode == 1
    added = re.search(r"(\d+) pieces of evidence added", done.stdout)
    assert added is not None
    with JobFile(job, read_only=True) as stored:
        found = stored.findings_outside()
        (use,) = stored.exposures_outside()
    assert len(found) == int(added[1]) > 10
    assert {each.code for each in found} <= {"D-310", "D-330"}, "a drive that loses its surface"
    days = {int(each.at // 86400) for each in found}
    assert len(days) > 5, "each at its own time, not all at once"
    assert all(each.origin == "the other common desktop system, simulated" for each in found)
    hours = re.search(r"In use for (\d+) hours", done.stdout)
    assert hours is not None
    assert use.minutes == pytest.approx(60.0 * int(hours[1]), abs=31.0)
    verdict = thresher("verdict", str(job))
    assert "drive" in verdict.stdout.lower(), "it counts"


def test_places_that_are_none_are_named(thresher: Run, tmp_path: Path) -> None:
    done = thresher("system-logs", str(tmp_path / "gone"), "--yes")
    assert done.returncode == 2
    assert "neither a folder nor a file system of this machine" in done.stderr
    empty = tmp_path / "empty"
    empty.mkdir()
    done = thresher("system-logs", str(empty), "--yes")
    assert done.returncode == 2
    assert f"{empty}: not read: no system is installed there" in done.stdout


def test_an_event_log_is_decoded_like_any_log(thresher: Run, tmp_path: Path) -> None:
    log = drive(tmp_path / "drive") / "Windows/System32/winevt/Logs/System.evtx"
    done = thresher("decode", str(log))
    assert done.returncode == 1
    assert "Bad block on a drive" in done.stdout
    assert "D-310" in done.stdout
