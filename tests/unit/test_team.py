"""A team of real worker processes."""

import os
import signal
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

from thresher.engine.run.team_findings import finding_of_team_event
from thresher.loads.compute.matrix import matrix_bytes
from thresher.loads.compute.relay import partner, round_trip_times, turns
from thresher.loads.memory.pages import PAGE
from thresher.loads.plan import LoadPlan
from thresher.loads.team.events import (
    MemoryTakenSeen,
    MemoryWrongSeen,
    MismatchSeen,
    PassSeen,
    ReferenceDisputed,
    TeamEvent,
    WorkerLost,
)
from thresher.loads.team.team import Team, TeamState, start_team
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import FindingKind
from thresher.model.parts import Inventory
from thresher.model.port import BitFlip
from thresher.model.sheet import Shape, ShapeKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios

PLAN = LoadPlan("matrix", 32, 2)
MakeTeam = Callable[..., Team]


@pytest.fixture
def make_team() -> Iterator[MakeTeam]:
    teams: list[Team] = []

    sound = SimulatedMachine(load_scenario(shipped_scenarios()["ferry-office"]), 0.0)

    def make(cpus: list[int], paced: bool = True, plan: LoadPlan = PLAN) -> Team:
        team = start_team(cpus, plan, sound.pacing if paced else None)
        teams.append(team)
        return team

    yield make
    for team in teams:
        team.stop()


def trips(team: Team) -> dict[tuple[int, int], float]:
    """The round trips that a team has measured between its first two CPUs, in nanoseconds."""
    cpus = team.all_cpus()
    measured = round_trip_times(team.shared, len(cpus))[0][1]
    return {(cpus[0], cpus[1]): measured} if measured else {}


def poll_until(team: Team, done: Callable[[list[TeamEvent]], bool], seconds: float = 20.0) -> list[TeamEvent]:
    events: list[TeamEvent] = []
    deadline = time.monotonic() + seconds
    while not done(events):
        assert time.monotonic() < deadline, f"waited too long: {team.state}, {events}"
        events += team.poll()
        time.sleep(0.005)
    return events


def pace(team: Team, beats: int, flips: dict[int, list[BitFlip]]) -> None:
    team.pace(dict.fromkeys(team.cpus(), beats), flips)


def ready(team: Team) -> Team:
    poll_until(team, lambda _events: team.state is TeamState.RUNNING)
    return team


def test_a_paced_team_does_exactly_the_beats_it_is_given(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1, 2]))
    pace(team, 3, {})
    pace(team, 2, {})
    assert team.beats == 15
    assert team.poll() == []


def test_a_flipped_bit_is_found_by_the_comparison_and_placed(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1, 5]))
    pace(team, 4, {5: [BitFlip(beat=2, word=77, bit=46)]})
    (event,) = team.poll()
    assert isinstance(event, MismatchSeen)
    assert (event.cpu, event.mismatch.beat, event.mismatch.wrong) == (5, 2, 1)
    assert (event.mismatch.shown[0].index, event.mismatch.shown[0].bits) == (77, (46,))
    assert (event.mismatch.repeats, event.mismatch.wrong_again) == (3, 0)
    assert event.others.right == (0, 1)
    assert event.others.wrong == ()
    assert team.status.mismatches(2) == 1


def test_two_flips_of_one_bit_cancel_and_are_right(make_team: MakeTeam) -> None:
    team = ready(make_team([0]))
    pace(team, 1, {0: [BitFlip(0, 5, 9), BitFlip(0, 5, 9)]})
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


def test_workers_are_pinned_where_they_were_put(make_team: MakeTeam) -> None:
    cpu = sorted(os.sched_getaffinity(0))[-1]
    team = ready(make_team([cpu], paced=False))
    assert os.sched_getaffinity(team.pids()[cpu]) == {cpu}


def test_a_worker_killed_from_outside_is_reported_with_its_signal(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1]))
    os.kill(team.pids()[1], signal.SIGKILL)
    (event,) = poll_until(team, bool)
    assert isinstance(event, WorkerLost)
    assert (event.cpu, event.by_processor, event.sentence) == (1, False, "ended by signal SIGKILL")
    pace(team, 2, {})
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
    assert (report.ended, report.killed >= 1) == (2, True)


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


def test_a_spawner_that_dies_while_the_reference_is_made_is_reported(make_team: MakeTeam) -> None:
    team = make_team([0, 1], plan=LoadPlan("matrix", 256, 2))
    poll_until(team, lambda _events: len(team.pids()) == 2)
    os.kill(team.pids()[1], signal.SIGSTOP)
    os.kill(int(_stat(team.pids()[0])[1]), signal.SIGKILL)
    with pytest.raises(EnvironmentFault, match="process that starts workers has ended"):
        poll_until(team, lambda _events: False, seconds=10)


def test_a_cpu_that_may_not_be_used_is_reported(make_team: MakeTeam) -> None:
    with pytest.raises(EnvironmentFault, match="CPU 4000"):
        ready(make_team([4000], paced=False))


def test_cores_that_disagree_about_the_reference_are_reported(make_team: MakeTeam) -> None:
    """A bit is flipped in the shared reference while the confirming worker is held, as a faulty core would."""
    team = make_team([0, 3], plan=LoadPlan("matrix", 64, 3))
    poll_until(team, lambda _events: len(team.pids()) == 2)
    os.kill(team.pids()[3], signal.SIGSTOP)
    poll_until(team, lambda _events: team.state is not TeamState.MAKING)
    folder = Path(f"/proc/{team.pids()[0]}/fd")
    operands = next(fd for fd in folder.iterdir() if "operands" in str(fd.readlink()))
    with operands.open("r+b") as memory:
        reference = 2 * matrix_bytes(team.plan) // 3
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


@pytest.mark.parametrize("load", ["solve", "transform", "integer", "branchy", "sieve", "precision"])
def test_every_load_runs_freely_and_compares_every_beat(make_team: MakeTeam, load: str) -> None:
    size = {"solve": 64, "transform": 1 << 10, "integer": 64, "branchy": 512, "sieve": 10_000}.get(load, 1)
    team = ready(make_team(sorted(os.sched_getaffinity(0)), paced=False, plan=LoadPlan(load, size, 1)))
    events = poll_until(team, lambda _events: team.beats > 6)
    assert events == []
    assert team.stop().ended == team.size


def test_a_mismatch_of_a_free_worker_is_done_again_by_others(make_team: MakeTeam) -> None:
    """A bit is turned in the shared operands while workers run: all are wrong then, and say so."""
    team = ready(make_team([0, 0, 0], paced=False, plan=LoadPlan("matrix", 96, 1)))
    poll_until(team, lambda _events: team.beats > 3)
    operands = next(fd for fd in Path(f"/proc/{team.pids()[0]}/fd").iterdir() if "operands" in str(fd.readlink()))
    with operands.open("r+b") as memory:
        memory.seek(800)
        byte = memory.read(1)[0]
        memory.seek(800)
        memory.write(bytes([byte ^ 64]))
    events = poll_until(
        team, lambda events: any(isinstance(each, MismatchSeen) and each.others.wrong for each in events)
    )
    seen = next(each for each in events if isinstance(each, MismatchSeen) and each.others.wrong)
    assert (seen.mismatch.repeats, seen.mismatch.wrong_again) == (3, 3)
    assert seen.others.right == ()
    finding = finding_of_team_event(seen, Inventory("m", True, (), ()), 5.0)
    assert "3 of 3 repeats wrong on this core" in finding.detail
    assert "too" in finding.detail


@pytest.mark.parametrize("compiled", [False, True])
def test_two_cores_pass_messages_and_none_is_lost(make_team: MakeTeam, compiled: bool) -> None:
    cpus = sorted(os.sched_getaffinity(0))[:2]
    if len(cpus) < 2:
        pytest.skip("one CPU has nobody to talk to")
    team = ready(make_team(cpus, paced=False, plan=LoadPlan("relay", 1, 1, compiled=compiled)))
    events = poll_until(team, lambda _events: bool(trips(team)), seconds=60)
    assert events == []
    ((pair, nanoseconds),) = trips(team).items()
    assert pair == (cpus[0], cpus[1])
    assert 10 < nanoseconds < 1e7


def test_an_odd_number_passes_messages_too_and_whoever_sits_out_waits_for_nobody(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1, 2], plan=LoadPlan("relay", 1, 1)))
    pace(team, turns(3), {})
    assert team.poll() == []
    assert team.beats == 3 * 2


def test_every_pair_meets_once_a_round() -> None:
    for workers in range(2, 10):
        met: list[tuple[int, int]] = []
        for turn in range(turns(workers)):
            pairs = {(one, partner(one, turn, workers)) for one in range(workers)}
            for one, other in pairs:
                assert other is None or partner(other, turn, workers) == one
                assert other != one
            met += [(one, other) for one, other in pairs if other is not None and one < other]
        assert sorted(met) == [(one, other) for one in range(workers) for other in range(one + 1, workers)]


def test_a_spoilt_message_is_found_between_the_two_that_passed_it(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1], plan=LoadPlan("relay", 1, 1)))
    pace(team, 2, {})
    assert team.poll() == []
    team.pace({0: 1, 1: 1}, {0: [BitFlip(0, 0, 17)]})
    events = team.poll()
    assert events
    assert all(isinstance(event, MismatchSeen) and event.partner_cpu is not None for event in events)
    finding = finding_of_team_event(events[0], Inventory("m", True, (), ()), 5.0)
    assert (finding.code, finding.place) == ("P-107", "cores 0 and 1")


@pytest.mark.parametrize("compiled", [False, True])
def test_real_memory_is_walked_through_with_other_pages_each_pass(make_team: MakeTeam, compiled: bool) -> None:
    plan = LoadPlan("memory", 1, 1, compiled=compiled, bytes_each=4 << 20, patterns=("fixed", "march"))
    team = make_team(sorted(os.sched_getaffinity(0)), paced=False, plan=plan)

    def all_have_begun(events: list[TeamEvent]) -> bool:
        """One worker may finish a pass before another has its memory, and the first may say so before all are ready."""
        taken = {each.cpu for each in events if isinstance(each, MemoryTakenSeen)}
        return len(taken) == team.size and any(isinstance(each, PassSeen) for each in events)

    events = poll_until(team, all_have_begun, seconds=60)
    taken = [each for each in events if isinstance(each, MemoryTakenSeen) and each.first]
    assert [each.taken.size for each in taken] == [4 << 20] * team.size
    assert not any(isinstance(each, MemoryWrongSeen) for each in events)
    covered = int(np.count_nonzero(np.frombuffer(team.shared, np.uint8))) * PAGE or None
    if taken[0].taken.has_frames:
        assert covered is not None
        assert covered >= 4 << 20
    else:
        assert covered is None


def test_memory_that_cannot_be_had_is_reported_with_what_to_do(make_team: MakeTeam) -> None:
    plan = LoadPlan("memory", 1, 1, bytes_each=1 << 50, patterns=("fixed",))
    team = make_team([0], paced=False, plan=plan)
    with pytest.raises(EnvironmentFault, match="smaller share"):
        poll_until(team, lambda _events: False, seconds=10)


def test_a_pulse_works_half_of_the_time(make_team: MakeTeam) -> None:
    cpu = sorted(os.sched_getaffinity(0))[0]
    team = start_team([cpu], LoadPlan("matrix", 64, 1), None, Shape(ShapeKind.PULSE, 0.05, 0.5))
    try:
        ready(team)
        poll_until(team, lambda _events: team.beats > 5)
        before, begun = team.cpu_time_s(), time.monotonic()
        time.sleep(1.0)
        share = (team.cpu_time_s() - before) / (time.monotonic() - begun)
        assert share < 0.75
        team.status.allow(0.1)
        before, begun = team.cpu_time_s(), time.monotonic()
        time.sleep(1.0)
        assert (team.cpu_time_s() - before) / (time.monotonic() - begun) < share
    finally:
        team.stop()


def test_two_workers_that_fail_at_once_are_both_reported(make_team: MakeTeam) -> None:
    team = ready(make_team([0, 1, 2, 3]))
    pids = team.pids()
    for cpu in (1, 3):
        os.kill(pids[cpu], signal.SIGSEGV)
    events = poll_until(team, lambda events: sum(isinstance(each, WorkerLost) for each in events) == 2)
    lost = {each.cpu: each for each in events if isinstance(each, WorkerLost)}
    assert set(lost) == {1, 3}
    assert all(each.by_processor for each in lost.values())
    assert (team.alive, team.size, team.cpus()) == (2, 4, [0, 2])
    report = team.stop()
    assert (report.started, report.ended) == (4, 4)
