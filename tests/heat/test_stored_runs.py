"""Stored runs compared: the demo's sail loft through the files, the process apart, and the command line."""

import json
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import Run
from thresher.app.demo_runs import record_heat_run, without
from thresher.compare.apart import Request, compare_apart
from thresher.compare.comparison import Comparison, compare
from thresher.compare.proof import proof_sheet
from thresher.compare.stored_spans import HotPart, RunRef, list_runs, read_spans
from thresher.compose.sheet_file import parse_sheet
from thresher.compose.sheet_text import sheet_text
from thresher.heat.comparable import Fairness
from thresher.heat.heat_path import Trouble
from thresher.heat.load_span import RoomFrom
from thresher.journal.jobfile import create_job
from thresher.journal.writer import JournalWriter
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.parts import PartKind
from thresher.model.sheet import GateKind
from thresher.model.trials import Book, Configuration, Trial
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.scenario import load_scenario, shipped_scenarios

PROCESSOR = HotPart(PartKind.PROCESSOR)


def compared(job: Path, *runs: int, rooms: dict[int, float] | None = None) -> Comparison:
    refs = tuple(RunRef(str(job), run) for run in runs)
    return compare(read_spans(refs, PROCESSOR, rooms or {}), PROCESSOR)


def test_the_runs_of_a_job_are_listed_with_their_states(sail_loft: Path) -> None:
    runs = list_runs(sail_loft)
    assert [each.name for each in runs] == ["As it came in", "Dust cleaned out", "Fresh paste", "Side panel off"]
    assert [each.room_c for each in runs] == [22.0, 22.4, 23.4, 23.6]
    assert all(each.load == "matrix" and each.simulated and not each.unfit for each in runs)
    assert runs[0].minutes == pytest.approx(22.0, abs=0.2)
    assert [part.words for part in runs[0].parts] == ["processor", "nvme0n1"]


def test_dust_then_paste_are_found_and_each_remedy_is_a_real_change(sail_loft: Path) -> None:
    found = compared(sail_loft, 1, 2, 3)
    dusty, dry, good = found.runs
    assert dusty.verdict.trouble is Trouble.AIR
    assert dry.verdict.trouble is Trouble.SEATING
    assert good.verdict.trouble is Trouble.NOTHING
    assert [each.cause.value for each in dusty.throttling] == ["heat"]
    assert not good.throttling
    assert [step.name for step in found.steps] == ["As it came in", "Dust cleaned out", "Fresh paste"]
    assert all(step.change is not None and step.change.real for step in found.steps[1:])
    assert found.difference is not None and found.difference.change is not None
    # 9.0 K cooler as measured in a room that was 1.0 K warmer: about 10 K
    assert found.difference.change.kelvin.low <= -10.0 <= found.difference.change.kelvin.high
    assert "Fresh paste" in found.sentence and "real change" in found.sentence


def test_a_cooler_is_refused_as_not_comparable_when_its_run_was_too_short(sail_loft: Path) -> None:
    found = compared(sail_loft, 3, 4)
    assert found.difference is not None
    assert found.difference.change is None and found.difference.curve is None
    assert found.steps == () and found.remedies == ()
    assert found.sentence.startswith("Not comparable. Too short, no plateau: after 2 min")
    refused = [each.name for each in found.difference.conditions if each.fairness is Fairness.REFUSED]
    assert refused == ["past the plateau"]


def test_a_room_that_was_typed_in_later_counts_before_the_one_in_the_file(sail_loft: Path) -> None:
    found = compared(sail_loft, 2, 3, rooms={1: 26.0})
    assert [each.room_c for each in found.runs] == [22.4, 26.0]
    assert found.runs[1].room_from is RoomFrom.TYPED


def test_the_same_state_twice_is_no_change(tmp_path: Path) -> None:
    scenario = load_scenario(shipped_scenarios()["ferry-office"])
    path = tmp_path / "ferry.thresher"
    create_job(path, {"number": "0418"})
    writer = JournalWriter(path)
    for number in (1, 2):
        record_heat_run(writer, scenario, number, 12.0, 1_773_900_000.0 + number * 3600, 22.0)
    writer.close()
    found = compared(path, 1, 2)
    assert found.difference is not None and found.difference.change is not None
    assert not found.difference.change.real
    assert "no difference beyond noise" in found.sentence


def test_a_short_run_of_a_state_does_not_blur_its_long_one(tmp_path: Path) -> None:
    scenario = load_scenario(shipped_scenarios()["sail-loft"])
    path = tmp_path / "loft.thresher"
    create_job(path, {"number": "0428"})
    writer = JournalWriter(path)
    for number, minutes in ((1, 2.0), (2, 22.0), (3, 22.0)):
        state = without(scenario, FaultKind.DRY_PASTE, FaultKind.CLOGGED_HEATSINK) if number == 3 else scenario
        record_heat_run(writer, state, number, minutes, 1_773_900_000.0 + number * 3600, 22.0)
    writer.set_book(
        Book((), (Trial(0, "As it came in", Configuration(()), (1, 2)), Trial(1, "Repaired", Configuration(()), (3,))))
    )
    writer.close()
    with_short, without_it = compared(path, 1, 2, 3), compared(path, 2, 3)
    assert with_short.difference is not None and without_it.difference is not None
    assert with_short.difference.change == without_it.difference.change


def test_drives_are_compared_by_their_own_temperature(sail_loft: Path) -> None:
    part = HotPart(PartKind.DRIVE, "nvme0n1")
    refs = tuple(RunRef(str(sail_loft), run) for run in (1, 3))
    found = compare(read_spans(refs, part, {}), part)
    assert found.runs[0].resistance is None
    assert found.runs[0].verdict.trouble is Trouble.UNKNOWN
    assert 30.0 < found.runs[0].plateau.value < 60.0


def test_a_run_that_is_not_there_and_a_part_without_a_sensor_say_so(sail_loft: Path) -> None:
    with pytest.raises(InputError, match="run 9: there is no such run"):
        read_spans((RunRef(str(sail_loft), 9),), PROCESSOR, {})
    with pytest.raises(InputError, match="no temperature of the card0"):
        read_spans((RunRef(str(sail_loft), 1),), HotPart(PartKind.GRAPHICS, "card0"), {})
    with pytest.raises(EnvironmentFault, match="no such file"):
        list_runs(sail_loft.with_name("gone.thresher"))
    with pytest.raises(InputError, match="expected 1 to 8"):
        compare((), PROCESSOR)


def test_the_process_apart_gives_the_same_and_passes_errors_on(sail_loft: Path) -> None:
    refs = (RunRef(str(sail_loft), 2), RunRef(str(sail_loft), 3))
    apart = compare_apart(Request(refs))
    assert apart == compared(sail_loft, 2, 3)
    with pytest.raises(InputError, match="run 7: there is no such run"):
        compare_apart(Request((RunRef(str(sail_loft), 7),), PROCESSOR))
    with pytest.raises(EnvironmentFault, match="no such file"):
        compare_apart(Request((RunRef(str(sail_loft.with_name("gone.thresher")), 1),), PROCESSOR))


def test_a_run_that_is_known_to_be_good_is_what_others_are_judged_by(sail_loft: Path) -> None:
    good, dry = RunRef(str(sail_loft), 3), RunRef(str(sail_loft), 2)
    found = compare_apart(Request((dry,), PROCESSOR, good=good)).runs[0]
    assert found.verdict.expected == pytest.approx(compared(sail_loft, 3).runs[0].resistance.value)  # type: ignore[union-attr]
    assert "known-good" in found.verdict.expected_from
    drive = HotPart(PartKind.DRIVE, "nvme0n1")
    with pytest.raises(InputError, match="cannot be the reference"):
        compare_apart(Request((dry,), drive, good=good))


def test_the_proof_run_is_the_same_sheet_from_the_same_start_temperature(sail_loft: Path) -> None:
    found = compared(sail_loft, 2, 3)
    sheet = proof_sheet(found)
    (gate,) = sheet.gates
    assert sheet.title == "Proof: Heat hunt, 22 min"
    assert gate.kind is GateKind.COOL_DOWN
    assert gate.to_c == found.runs[0].start_c
    assert sheet.blocks[0].length_s == 22 * 60.0
    assert parse_sheet(sheet_text(sheet), "proof") == sheet


@dataclass(frozen=True)
class _Refusal:
    arguments: tuple[str, ...]
    words: str


@pytest.mark.parametrize(
    "refusal",
    [
        _Refusal(("{job}:9",), "there is no such run"),
        _Refusal(("{job}:3", "--part", "card7"), "known: processor, nvme0n1"),
        _Refusal(("{job}:3", "--room", "warm"), "expected numbers with commas between"),
        _Refusal(("{job}:3", "--room", "22,23"), "2 temperatures for 1 runs"),
        _Refusal(("{job}:3", "--room", "99"), "expected -30 to 60"),
        _Refusal(("{job}x",), "no such file"),
        _Refusal(("{job}:3", "--good", "{job}"), "has 4 runs: name one"),
    ],
)
def test_what_cannot_be_compared_is_refused_in_words(thresher: Run, sail_loft: Path, refusal: _Refusal) -> None:
    done = thresher("compare", *(each.format(job=sail_loft) for each in refusal.arguments))
    assert done.returncode == 2
    assert refusal.words in done.stderr


def test_the_command_line_says_what_changed(thresher: Run, sail_loft: Path) -> None:
    done = thresher("compare", f"{sail_loft}:2,3")
    assert done.returncode == 0
    assert "Run 2: Dust cleaned out" in done.stdout
    assert "Room differs by 1.0 K: corrected for." in done.stdout
    assert "real change" in done.stdout
    assert thresher("compare", f"{sail_loft}:3,4").returncode == 1  # refused
    answer = json.loads(thresher("compare", f"{sail_loft}:2,3", "--json").stdout)
    assert answer["difference"]["change"]["real"] is True
    assert [run["choice"]["ref"]["run"] for run in answer["runs"]] == [2, 3]
