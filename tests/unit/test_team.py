"""A team of real worker processes."""

import os
import signal
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from thresher.engine.evidence import finding_of_team_event
from thresher.loads.matrix import MatrixPlan
from thresher.loads.team import MismatchSeen, ReferenceDisputed, Team, TeamEvent, TeamState, WorkerLost
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import FindingKind
from thresher.model.parts import Inventory
from thresher.model.port import BitFlip

PLAN = MatrixPlan(32, 2)
MakeTeam = Callable[..., Team]


@pytest.fixture
def make_team() -> Iterator[MakeTeam]:
    teams: list[Team] = []

    def make(cpus: list[int], paced: bool = True, plan: MatrixPlan = PLAN) -> Team:
        team = Team(cpus, plan, paced)
        teams.append(team)
        return team

    yield make
    for team in teams:
        team.stop()


def poll_until(team: Team, done: Callable[[list[TeamEvent]], bool], seconds: float = 20.0) -> list[TeamEvent]:
    events: list[TeamEvent] = []
    deadline = time.monotonic() + seconds
    while not done(events):
        assert time.monotonic() < deadline, f"waited too long: {team.state}, {events}"
        events += team.poll()
        time.sleep(0.005)
    return events


def ready(team: Team) -> Team:
    poll_until(team, lambda _events: team.state is TeamState.RUNNING)
    return team


def test_a_paced_team_does_exactly_the_beats_it_is_given(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1, 2]))
    team.pace(3, {})
    team.pace(2, {})
    assert team.beats == 15
    assert team.poll() == []


def test_a_flipped_bit_is_found_by_the_comparison_and_placed(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1, 5]))
    team.pace(4, {5: [BitFlip(beat=2, word=77, bit=46)]})
    (event,) = team.poll()
    assert isinstance(event, MismatchSeen)
    assert (event.cpu, event.mismatch.beat, event.mismatch.wrong) == (5, 2, 1)
    assert (event.mismatch.shown[0].index, event.mismatch.shown[0].bits) == (77, (46,))
    assert event.mismatch.repeated_right
    assert team.status.mismatches(2) == 1


def test_two_flips_of_one_bit_cancel_and_are_right(make_team: MakeTeam) -> None:
    team = ready(make_team([0]))
    team.pace(1, {0: [BitFlip(0, 5, 9), BitFlip(0, 5, 9)]})
    assert team.poll() == []


def test_a_free_team_works_until_stopped_and_every_worker_ends(make_team: MakeTeam) -> None:
    cpus = sorted(os.sched_getaffinity(0))
    team = ready(make_team(cpus, paced=False))
    poll_until(team, lambda _events: team.beats > 20)
    pids = list(team.pids().values())
    assert len(pids) == len(cpus)
    report = team.stop()
    assert (report.started, report.ended) == (len(cpus), len(cpus))
    assert not any(_alive(pid) for pid in pids)
    assert f"{len(cpus)} of {len(cpus)} workers have ended" in report.sentence
    assert team.stop() == report


def test_workers_are_pinned_where_they_were_told(make_team: MakeTeam) -> None:
    cpu = sorted(os.sched_getaffinity(0))[-1]
    team = ready(make_team([cpu], paced=False))
    assert os.sched_getaffinity(team.pids()[cpu]) == {cpu}


def test_a_worker_killed_from_outside_is_told_with_its_signal(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1]))
    os.kill(team.pids()[1], signal.SIGKILL)
    (event,) = poll_until(team, bool)
    assert isinstance(event, WorkerLost)
    assert (event.cpu, event.by_processor, event.sentence) == (1, False, "ended by signal SIGKILL")
    team.pace(2, {})
    assert team.alive == 1
    assert team.cpus() == [0]


def test_a_worker_that_crashes_points_at_the_processor(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1]))
    os.kill(team.pids()[0], signal.SIGILL)
    (event,) = poll_until(team, bool)
    assert isinstance(event, WorkerLost)
    assert event.by_processor


def test_a_worker_that_does_not_listen_is_killed(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1], paced=False))
    os.kill(team.pids()[0], signal.SIGSTOP)
    report = team.stop()
    assert (report.ended, report.killed) == (2, 1)


def test_a_worker_that_stands_still_is_seen(make_team: MakeTeam) -> None:
    team = ready(make_team([0], paced=False))
    poll_until(team, lambda _events: team.beats > 0)
    pid = team.pids()[0]
    os.kill(pid, signal.SIGSTOP)
    poll_until(team, lambda _events: team.stalled(0.2) == [0])
    os.kill(pid, signal.SIGCONT)
    poll_until(team, lambda _events: team.stalled(0.2) == [])


def test_workers_die_with_the_spawner(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1], paced=False))
    pids = list(team.pids().values())
    parent = int(_stat(pids[0])[1])
    os.kill(parent, signal.SIGKILL)
    events = poll_until(team, lambda events: len(events) == 2)
    assert all(isinstance(event, WorkerLost) for event in events)
    poll_until(team, lambda _events: not any(_alive(pid) for pid in pids))


def test_a_spawner_that_dies_while_the_reference_is_made_is_said(make_team: MakeTeam) -> None:
    team = make_team([0, 1], plan=MatrixPlan(256, 2))
    poll_until(team, lambda _events: len(team.pids()) == 2)
    os.kill(team.pids()[1], signal.SIGSTOP)
    os.kill(int(_stat(team.pids()[0])[1]), signal.SIGKILL)
    with pytest.raises(EnvironmentFault, match="process that starts workers has ended"):
        poll_until(team, lambda _events: False, seconds=10)


def test_a_cpu_that_may_not_be_used_is_said(make_team: MakeTeam) -> None:
    with pytest.raises(EnvironmentFault, match="CPU 4000"):
        ready(make_team([4000], paced=False))


def test_cores_that_disagree_about_the_reference_are_told(make_team: MakeTeam) -> None:
    """A bit is flipped in the shared reference while the confirming worker is held, as a faulty core would."""
    team = make_team([0, 3], plan=MatrixPlan(64, 3))
    poll_until(team, lambda _events: len(team.pids()) == 2)
    os.kill(team.pids()[3], signal.SIGSTOP)
    poll_until(team, lambda _events: team.state is not TeamState.MAKING)
    folder = Path(f"/proc/{team.pids()[0]}/fd")
    operands = next(fd for fd in folder.iterdir() if "operands" in str(fd.readlink()))
    with operands.open("r+b") as memory:
        reference = 2 * team.plan.bytes // 3
        memory.seek(reference)
        byte = memory.read(1)[0]
        memory.seek(reference)
        memory.write(bytes([byte ^ 1]))
    os.kill(team.pids()[3], signal.SIGCONT)
    (event,) = poll_until(team, bool)
    assert event == ReferenceDisputed(made_on=0, confirmed_on=3, sets=1)
    finding = finding_of_team_event(event, Inventory("m", True, (), ()), 5.0)
    assert (finding.code, finding.kind) == ("P-105", FindingKind.REFERENCE_DISPUTE)
    assert "core 0 made the reference, core 3 does not confirm 1 of its sets" in finding.detail


def _stat(pid: int) -> list[str]:
    return Path(f"/proc/{pid}/stat").read_text(encoding="ascii").rpartition(")")[2].split()


def _alive(pid: int) -> bool:
    try:
        return _stat(pid)[0] not in "ZX"
    except FileNotFoundError:
        return False
