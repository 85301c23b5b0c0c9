"""The intake of a job, through the engine: doubts, history, limits, trust, idle readings, sheets, jobs."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import SHORT_SHEET, Heard
from thresher.compose.sheet_file import parse_sheet
from thresher.engine.engine import Engine
from thresher.engine.services.jobs import list_jobs, unused_job_path
from thresher.journal.jobfile import JobFile
from thresher.model.channels import Channel, LimitSide, Quantity
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.job import Complaint, complaints_field, parse_complaints
from thresher.model.parts import PartKind
from thresher.model.sheet import RunSheet
from thresher.protocol.events import IntakeEvent, MachineEvent
from thresher.shop.store import ShopPart, machine_path, shelf_path
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
OFFSET = Fault(kind=FaultKind.CHANNEL_OFFSET, path="/sys/class/hwmon/hwmon1/temp2_input", strength=24000)
STUCK = Fault(kind=FaultKind.CHANNEL_STUCK, path="/sys/class/hwmon/hwmon1/fan1_input", after_s=5)


def named(engine: Engine, name: str) -> Channel:
    return next(each for each in engine.channels if each.name == name)


def test_complaints_keep_when_and_note() -> None:
    shown = (Complaint("freezes", "at night", "twice\tthis\nweek"), Complaint("stop screen"))
    assert parse_complaints(complaints_field(shown)) == (
        Complaint("freezes", "at night", "twice this week"),
        Complaint("stop screen"),
    )
    assert parse_complaints("freezes\n\nstop screen") == (Complaint("freezes"), Complaint("stop screen"))


def test_what_should_be_there_becomes_a_doubt_as_it_is_typed(make_engine: MakeEngine, lighthouse: Scenario) -> None:
    engine, heard = make_engine(lighthouse)
    engine.jobs.set_fields({"expected_memory": "64"})
    assert "expected a size" in engine.machine.intake().expected_trouble, "half a word is kept and said to be half"
    engine.jobs.set_fields({"expected_memory": "64 GB"})
    assert engine.machine.intake().expected_trouble == ""
    events = [event for event in heard.events if isinstance(event, MachineEvent)]
    assert [doubt.code for doubt in events[-1].machine.doubts] == ["M-150"]
    assert "M-150" in heard.codes()
    engine.jobs.set_fields({"expected_memory": "32 GB"})
    assert engine.snapshot().machine.doubts == ()
    engine.close()
    with JobFile(Path(engine.snapshot().job_file)) as stored:
        assert stored.job()["expected_memory"] == "32 GB"


def test_a_drive_gone_since_the_last_visit_is_reported_at_the_next(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    shop = tmp_path / "shop"
    first, _ = make_engine(lighthouse, "first.thresher", shop=shop)
    first.jobs.set_fields({"number": "0300"})
    first.close()
    same, _ = make_engine(replace(lighthouse, drives=()), "first.thresher", shop=shop)
    assert not [each for each in same.inventory.doubts if each.code == "D-120"], "the same job is not another visit"
    same.close()
    make_engine(lighthouse, "first.thresher", shop=shop)
    engine, _ = make_engine(replace(lighthouse, drives=()), "second.thresher", shop=shop)
    assert [each.code for each in engine.inventory.doubts] == ["D-120"]
    assert engine.machine.intake().last_visit.endswith("job 0300")


def test_a_limit_with_its_reason_counts_and_stays_with_the_machine(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: Callable[[float], RunSheet], tmp_path: Path
) -> None:
    shop = tmp_path / "shop"
    engine, heard = make_engine(lighthouse, shop=shop)
    key = named(engine, "drive nvme0n1").key
    engine.machine.set_limit(key, LimitSide.BELOW, 55.0, "sits  right under the card")
    limit = named(engine, "drive nvme0n1").limit(LimitSide.BELOW)
    assert limit is not None
    assert (limit.value, limit.reason) == (55.0, "sits right under the card")
    assert any("Limit of drive nvme0n1 changed" in line for line in heard.tape())
    engine.run_to_end(sheet(3))
    with JobFile(Path(engine.snapshot().job_file)) as stored:
        (run,) = stored.runs()
        kept = next(each for each in run.channels if each.key == key)
        assert kept.limits[0].reason == "sits right under the card"
    later, _ = make_engine(lighthouse, "later.thresher", shop=shop)
    assert named(later, "drive nvme0n1").limits[0].value == 55.0
    later.machine.set_limit(key, LimitSide.BELOW, None, "")
    assert [each.value for each in named(later, "drive nvme0n1").limits] == [81.85, 84.85]


def test_limits_and_trust_are_not_changed_under_a_run(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: Callable[[float], RunSheet]
) -> None:
    engine, _ = make_engine(lighthouse)
    key = named(engine, "drive nvme0n1").key
    with pytest.raises(InputError, match="no such channel"):
        engine.machine.set_trust("nowhere", False, "")
    engine.sheets.put(sheet(60))
    engine.start()
    with pytest.raises(EnvironmentFault, match="changing a limit: a run is in progress"):
        engine.machine.set_limit(key, LimitSide.BELOW, 1.0, "why")
    with pytest.raises(EnvironmentFault, match="trusted: a run is in progress"):
        engine.machine.set_trust(key, False, "why")
    with pytest.raises(EnvironmentFault, match="idle readings: a run is in progress"):
        engine.machine.begin_baseline(30.0)
    engine.stop()


def test_idle_readings_find_an_offset_and_the_technician_decides(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    model, shop = replace(lighthouse, faults=(OFFSET, STUCK)), tmp_path / "shop"
    engine, heard = make_engine(model, shop=shop)
    engine.machine.begin_baseline(20.0)
    assert engine.machine.intake().baseline_left_s == pytest.approx(20.0)
    engine.watch(25.0)
    baseline = engine.machine.intake().baseline
    assert baseline is not None
    assert engine.machine.intake().baseline_left_s is None
    (doubt,) = baseline.doubts
    assert (doubt.code, doubt.channel) == ("X-833", named(engine, "CPU").key)
    assert "X-833" in heard.codes()
    assert named(engine, "CPU").distrust.startswith("Constant offset")
    engine.machine.set_trust(named(engine, "CPU").key, True, "checked with a probe")
    assert named(engine, "CPU").distrust == ""
    engine.machine.set_trust(named(engine, "Package id 0").key, False, "jumps")
    later, _ = make_engine(model, "later.thresher", shop=shop)
    assert named(later, "CPU").distrust == ""
    assert "jumps" in named(later, "Package id 0").distrust
    assert later.machine.intake().baseline == baseline
    with JobFile(tmp_path / "job.thresher") as stored:
        assert stored.baseline() == baseline


def test_a_hot_channel_that_is_not_believed_stops_no_run(make_engine: MakeEngine, lighthouse: Scenario) -> None:
    fault = Fault(kind=FaultKind.CHANNEL_OFFSET, path="/sys/class/hwmon/hwmon0/temp2_input", strength=40000)
    wild = replace(lighthouse, faults=(fault,))
    cautious = parse_sheet(SHORT_SHEET.format(length=5) + "[limits]\ntemperature_c = 69\n", "cautious")
    trusting, _ = make_engine(wild, "other.thresher")
    assert trusting.run_to_end(cautious).ending == "tripped"
    engine, _ = make_engine(wild)
    wrong = next(each for each in engine.channels if each.source == fault.path)
    engine.machine.set_trust(wrong.key, False, "reads 40 K too much")
    assert engine.run_to_end(cautious).ending == "finished"


def test_a_limit_that_no_trusted_temperature_keeps_is_refused_or_accepted_with_a_note(
    make_engine: MakeEngine, lighthouse: Scenario
) -> None:
    engine, heard = make_engine(lighthouse)
    for channel in engine.channels:
        if channel.kind is PartKind.PROCESSOR and channel.quantity is Quantity.TEMPERATURE:
            engine.machine.set_trust(channel.key, False, "all wrong")
    limited = parse_sheet(SHORT_SHEET.format(length=5) + "[limits]\ntemperature_c = 95\n", "limited")
    with pytest.raises(EnvironmentFault, match="the limit of 95 °C cannot be watched"):
        engine.run_to_end(limited)
    assert engine.run_to_end(limited, unwatched_limit=True).ending == "finished"
    assert any(line.startswith("Limit not watched: no trusted sensor") for line in heard.tape())
    free = parse_sheet(SHORT_SHEET.format(length=5), "free")
    assert engine.run_to_end(free).ending == "finished", "a sheet without a limit needs no temperature"


def test_a_load_that_begins_gives_idle_readings_up(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: Callable[[float], RunSheet]
) -> None:
    engine, heard = make_engine(lighthouse)
    engine.machine.begin_baseline(600.0)
    engine.run_to_end(sheet(2))
    assert engine.machine.intake().baseline is None
    assert engine.machine.intake().baseline_left_s is None
    assert any("Idle readings cancelled" in line for line in heard.tape())
    with pytest.raises(InputError, match="10 to 3600"):
        engine.machine.begin_baseline(2.0)


def test_a_shop_file_that_is_broken_is_put_aside_and_reported(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    shop = tmp_path / "shop"
    shop.mkdir()
    shelf_path(shop).write_text('{"format": "thresher-shelf/1", "parts": 7}')
    engine, _ = make_engine(lighthouse, shop=shop)
    (shown,) = [entry for entry in engine.snapshot().tape if entry.code == "X-860"]
    assert "unreadable-1" in shown.detail
    engine.machine.set_shelf((ShopPart(tag="S-1", kind=PartKind.POWER, name="Brackwater 650"),))
    assert (shop / "shelf.json.unreadable-1").read_text().endswith("7}")


def test_a_shop_folder_that_cannot_be_written_is_reported_and_stops_nothing(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    shop = tmp_path / "shop"
    shop.mkdir()
    (shop / "machines").write_text("in the way")
    engine, _ = make_engine(lighthouse, shop=shop)
    told = [entry for entry in engine.snapshot().tape if entry.code]
    assert [entry.code for entry in told] == ["X-860", "X-860", "X-861"]
    assert ".checks.json" in told[0].detail + told[1].detail, "each file that could not be read is named"
    assert not machine_path(shop, "x").exists()
    with pytest.raises(EnvironmentFault, match="no shop folder"):
        make_engine(lighthouse, "other.thresher")[0].machine.set_shelf(())


def test_a_sheet_is_kept_changed_and_offered_as_ours(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    engine, heard = make_engine(lighthouse, shop=tmp_path / "shop")
    path = Path(engine.sheets.keep("heat-hunt"))
    path.write_text(path.read_text().replace("Heat hunt, 22 min", "Our heat hunt"))
    engine.sheets.reload()
    offers = [event for event in heard.events if isinstance(event, IntakeEvent)][-1].intake.offers
    (ours,) = [offer for offer in offers if offer.own]
    assert (ours.name, ours.title) == ("shop/heat-hunt", "Our heat hunt")
    engine.sheets.choose("shop/heat-hunt")
    assert engine.status().title == "Our heat hunt"
    path.write_text("format = 1")
    engine.sheets.reload()
    (broken,) = [offer for offer in engine.machine.intake().offers if offer.own]
    assert "expected format" in broken.trouble
    with pytest.raises(InputError, match="expected format"):
        engine.sheets.choose("shop/heat-hunt")


def test_time_on_the_bench_changes_what_is_proposed(make_engine: MakeEngine, lighthouse: Scenario) -> None:
    engine, _ = make_engine(lighthouse)
    engine.jobs.set_fields({"minutes": "10"})
    assert engine.machine.intake().offers[0].name == "short-round"
    with pytest.raises(InputError, match="minutes"):
        engine.jobs.set_fields({"minutes": "soon"})
    engine.sheets.put_proposed()
    assert engine.conductor.sheet is not None
    assert engine.conductor.sheet.title == "Short round, 3 min"


def test_jobs_are_listed_the_current_first_and_a_new_one_gets_the_next_number(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: Callable[[float], RunSheet], tmp_path: Path
) -> None:
    engine, _ = make_engine(lighthouse)
    engine.jobs.set_fields({"number": "0417"})
    engine.run_to_end(sheet(2))
    (tmp_path / "torn.thresher").write_bytes(b"not a database at all, but long enough to be looked at")
    path = Path(engine.jobs.prepare_new()())
    cards = engine.jobs.cards()
    assert (cards[0].number, cards[0].current, cards[0].runs) == ("0417", True, 1)
    assert {card.number for card in cards} == {"0417", "0418", ""}
    (torn,) = [card for card in cards if card.trouble]
    assert "not a Thresher job file" in torn.trouble
    with JobFile(path) as stored:
        assert stored.job() == {"number": "0418", "machine": lighthouse.title, "symptoms": ""}
    assert unused_job_path(tmp_path, "Ötzi's PC!").name.endswith("-tzi-s-pc.thresher")
    assert list_jobs(tmp_path / "nowhere", path) == ()


def test_parts_keep_their_tags_from_run_to_run(make_engine: MakeEngine, lighthouse: Scenario) -> None:
    engine, _ = make_engine(lighthouse)
    before = {each.part: each.tag for each in engine.machine.intake().instances}
    engine.close()
    one, two = lighthouse.modules
    moved = replace(lighthouse, modules=(replace(two, slot="A2"), replace(one, slot="B2")))
    again, _ = make_engine(moved)
    after = {each.part: each.tag for each in again.machine.intake().instances}
    assert after["memory A2"] == before["memory B2"]
    assert after["processor"] == before["processor"]
