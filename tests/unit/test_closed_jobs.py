"""Locked verdicts, the actual cause, and what the shop's own jobs change."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.app.stored_verdict import job_verdict, shop_of
from thresher.compose.sheet_file import parse_sheet
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import Knowledge, load_knowledge
from thresher.diagnosis.shop_priors import KNOWLEDGE_JOBS, prior_changes, with_closed_jobs
from thresher.diagnosis.verdict import diagnose
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.model.decisions import (
    ActualCause,
    ClosedJob,
    Culprit,
    LockedVerdict,
    chance_given,
    compare,
    culprit_words,
)
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.model.verdict import Suspect
from thresher.shop.store import closed_jobs_path, read_closed_jobs
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

P = PartKind
KNOWLEDGE = load_knowledge()
SHEET = """format = "thresher-sheet/1"
title = "Heat"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = 300
"""


def closed(*culprits: Culprit, counts: bool = True, job: str = "a") -> ClosedJob:
    return ClosedJob(job, "1", 0.0, culprits, None, counts)


def share(knowledge: Knowledge, name: str) -> float:
    modes = {mode.name: mode.prior for mode in knowledge.modes if not mode.harmless}
    total = sum(modes.values()) + knowledge.weights.nothing
    return (modes[name] if name else knowledge.weights.nothing) / total


# ---- priors


def test_a_mode_that_the_shop_sees_often_becomes_likelier_and_the_rest_less() -> None:
    jobs = [closed(Culprit(P.POWER, "S-1", "power.cuts"))] * 20
    adjusted = with_closed_jobs(KNOWLEDGE, jobs)
    assert share(adjusted, "power.cuts") == pytest.approx(
        (KNOWLEDGE_JOBS * share(KNOWLEDGE, "power.cuts") + 20) / (KNOWLEDGE_JOBS + 20)
    )
    assert share(adjusted, "memory.cells") < share(KNOWLEDGE, "memory.cells")
    assert adjusted.jobs == 20


def test_a_part_without_its_mode_counts_for_its_modes_as_common_as_they_are() -> None:
    adjusted = with_closed_jobs(KNOWLEDGE, [closed(Culprit(P.POWER))] * 10)
    before = share(KNOWLEDGE, "power.cuts") / share(KNOWLEDGE, "power.sag")
    assert share(adjusted, "power.cuts") / share(adjusted, "power.sag") == pytest.approx(before)
    assert share(adjusted, "power.cuts") > share(KNOWLEDGE, "power.cuts")
    # a way of being faulty that the knowledge base no longer has counts by its part
    gone = with_closed_jobs(KNOWLEDGE, [closed(Culprit(P.POWER, "", "power.gone"))] * 10)
    assert share(gone, "power.cuts") == pytest.approx(share(adjusted, "power.cuts"))


def test_healthy_machines_count_for_nothing_faulty() -> None:
    adjusted = with_closed_jobs(KNOWLEDGE, [closed()] * 30)
    assert share(adjusted, "") > share(KNOWLEDGE, "") + 0.2
    assert diagnose(Evidence((), (), 4), adjusted).suspects[0].kind is None


def test_jobs_that_do_not_count_change_nothing() -> None:
    assert with_closed_jobs(KNOWLEDGE, [closed(Culprit(P.POWER), counts=False)] * 9) is KNOWLEDGE
    assert prior_changes(KNOWLEDGE, [closed(counts=False)]) == ()


CULPRITS = st.sampled_from(
    [
        Culprit(P.MEMORY, "M-1", "memory.cells"),
        Culprit(P.PROCESSOR),
        Culprit(P.BOARD, "B-1", "board.supply"),
        Culprit(P.NETWORK),
        Culprit(P.COOLING, "C-1", "cooling.clogged"),
    ]
)


@given(st.lists(st.lists(CULPRITS, max_size=2, unique=True), max_size=40))
def test_shares_stay_shares_whatever_was_closed(jobs: list[list[Culprit]]) -> None:
    adjusted = with_closed_jobs(KNOWLEDGE, [closed(*each) for each in jobs])
    names = [mode.name for mode in KNOWLEDGE.modes if not mode.harmless] + [""]
    assert sum(share(adjusted, name) for name in names) == pytest.approx(1.0)
    assert all(mode.prior > 0 for mode in adjusted.modes)
    scale = sum(mode.prior for mode in adjusted.modes) + adjusted.weights.nothing
    assert scale == pytest.approx(sum(mode.prior for mode in KNOWLEDGE.modes) + KNOWLEDGE.weights.nothing, rel=0.4)
    changes = prior_changes(KNOWLEDGE, [closed(*each) for each in jobs])
    if jobs:
        assert sum(each.after for each in changes) == pytest.approx(1.0)
        assert abs(changes[0].after - changes[0].before) >= abs(changes[-1].after - changes[-1].before)


def test_the_reasons_say_that_the_shop_s_jobs_stand_behind_them() -> None:
    adjusted = with_closed_jobs(KNOWLEDGE, [closed(Culprit(P.POWER))] * 3)
    assert "3 closed jobs of this shop" in diagnose(Evidence((), (), 4), adjusted).suspects[0].reasons[0].text
    assert "this shop" not in diagnose(Evidence((), (), 4), KNOWLEDGE).suspects[0].reasons[0].text


# ---- comparing


def suspect(kind: PartKind | None, tag: str, mode: str, probability: float) -> Suspect:
    return Suspect(mode, "what", kind, tag or (kind.value if kind else ""), "", probability, (), "", tag)


FROZEN = LockedVerdict(
    0.0,
    "Replace",
    "replace P-1",
    (),
    (
        suspect(P.PROCESSOR, "P-1", "processor.weak-core", 0.7),
        suspect(P.PROCESSOR, "P-1", "processor.cache", 0.25),
        suspect(P.BOARD, "B-1", "board.supply", 0.04),
        suspect(None, "", "nothing", 0.01),
    ),
    3,
)


def test_what_was_said_is_held_against_what_it_was() -> None:
    part = ActualCause(1.0, (Culprit(P.PROCESSOR, "P-1"),))
    assert chance_given(FROZEN, part) == pytest.approx(0.95)
    assert compare(FROZEN, part) == "Actual cause: the processor P-1, predicted at 95 %."
    mode = ActualCause(1.0, (Culprit(P.PROCESSOR, "P-1", "processor.cache"),))
    assert chance_given(FROZEN, mode) == pytest.approx(0.25)
    both = ActualCause(1.0, (Culprit(P.PROCESSOR, "P-1"), Culprit(P.BOARD, "B-1")))
    assert chance_given(FROZEN, both) == pytest.approx(0.04)
    assert "top suspect was Processor P-1 (70 %)" in compare(FROZEN, both)
    assert "nothing faulty in the hardware, predicted at" in compare(FROZEN, ActualCause(1.0, ()))
    other = ActualCause(1.0, (Culprit(P.PROCESSOR, "P-9"),))
    assert chance_given(FROZEN, other) == 0.0


def test_culprits_have_names() -> None:
    assert culprit_words(Culprit(P.MEMORY, "", "memory.settings")) == "settings of the memory"
    assert culprit_words(Culprit(P.POWER, "power")) == "the power"


# ---- with a job and a shop


@pytest.fixture
def lighthouse() -> Scenario:
    return load_scenario(shipped_scenarios()["lighthouse-playout"])


def opened(lighthouse: Scenario, folder: Path, job: str = "job") -> Engine:
    return open_engine(
        SimulatedMachine(lighthouse, 0.0), folder / f"{job}.thresher", {"number": "0417"}, shop=folder / "shop"
    )


def test_a_verdict_is_frozen_with_its_reasons_and_the_job_closed_and_opened_again(
    lighthouse: Scenario, tmp_path: Path
) -> None:
    engine = opened(lighthouse, tmp_path)
    with pytest.raises(InputError, match="there is none yet"):
        engine.verdicts.lock()
    engine.run_to_end(parse_sheet(SHEET, "test"))
    frozen = engine.verdicts.lock("  before the   order ")
    assert frozen.note == "before the order"
    assert any(reason.decibans for each in frozen.suspects for reason in each.reasons)
    own = next(part for part in engine.trials.book.parts if part.kind is P.PROCESSOR)
    engine.decisions.close((Culprit(P.PROCESSOR, own.tag, "processor.weak-core"),), "swapped, clean for a week", "0417")
    (job,) = read_closed_jobs(tmp_path / "shop")
    assert (job.job, job.number, job.counted) == ("job", "0417", True)
    assert job.predicted is not None
    assert job.predicted > 0.3
    assert engine.decisions.knowledge.jobs == 0, "its own outcome is no evidence for itself"
    assert sum(each.jobs for each in engine.decisions.changes) == pytest.approx(1.0)
    engine.decisions.set_counted("job", False)
    assert not read_closed_jobs(tmp_path / "shop")[0].counted
    engine.decisions.set_counted("job", True)
    snapshot = engine.snapshot()
    assert snapshot.decided.decisions.locked == (frozen,)
    assert snapshot.decided.closed[0].counted
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        assert stored.decisions().locked == (frozen,)
        assert "decisions" not in stored.job()
        alone, shown = job_verdict(stored), job_verdict(stored, tmp_path / "shop")
        assert "closed job of this shop" not in shown.suspects[0].reasons[0].text  # the job itself is none of them
        assert "this shop" not in alone.suspects[0].reasons[0].text
        assert shop_of(stored).name == "shop"
    # another job of the same shop reckons with it
    other = opened(lighthouse, tmp_path, "other")
    assert other.decisions.knowledge.jobs == 1
    other.close()
    again = opened(lighthouse, tmp_path)
    assert again.decisions.decisions.actual_cause is not None
    again.decisions.reopen()
    assert read_closed_jobs(tmp_path / "shop") == ()
    assert again.decisions.knowledge.jobs == 0
    with pytest.raises(InputError, match="not closed"):
        again.decisions.reopen()
    again.close()


def test_what_cannot_be_is_refused_with_every_fault(lighthouse: Scenario, tmp_path: Path) -> None:
    engine = opened(lighthouse, tmp_path)
    wrong = (Culprit(P.POWER, "", "power.nonsense"), Culprit(P.POWER, "", "memory.cells"))
    with pytest.raises(InputError, match="not a fault mode"):
        engine.decisions.close((Culprit(P.BOARD, "", "nothing.strays"),))  # strays are nobody's fault
    with pytest.raises(InputError) as caught:
        engine.decisions.close(wrong)
    assert "not a fault mode" in str(caught.value)
    assert "belongs to the memory" in str(caught.value)
    with pytest.raises(InputError, match="none of them"):
        engine.decisions.set_counted("never", True)
    assert read_closed_jobs(tmp_path / "shop") == ()
    engine.close()


@pytest.mark.parametrize(
    "content", ["", "{", '{"format": "thresher-shelf/1"}', '{"format": "thresher-closed-jobs/1", "jobs": 3}']
)
def test_a_file_of_closed_jobs_that_cannot_be_read_is_put_aside_and_reported(
    lighthouse: Scenario, tmp_path: Path, content: str
) -> None:
    path = closed_jobs_path(tmp_path / "shop")
    path.parent.mkdir(parents=True)
    path.write_text(content)
    engine = opened(lighthouse, tmp_path)
    assert engine.decisions.closed == ()
    shown = [entry.detail for entry in engine.snapshot().tape if entry.code == "X-860"]
    assert any("closed-jobs" in each and "kept as" in each for each in shown)
    engine.decisions.close((), "", "")
    assert len(read_closed_jobs(tmp_path / "shop")) == 1
    assert [each.read_text() for each in path.parent.glob("closed-jobs.json.unreadable-*")] == [content]
    engine.close()
