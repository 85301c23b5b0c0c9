"""Blocks of graphics cards on a run sheet, on simulated machines: every fault shows, and only where it is."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.compose.announce import announcement
from thresher.compose.details import fields_of, shown_text
from thresher.compose.entry import EntryError
from thresher.compose.fitting import fitted, missing_rows
from thresher.compose.ready_made import Pick, Wish, block_of
from thresher.compose.sheet_faults import sheet_faults
from thresher.compose.sheet_file import load_sheet, parse_sheet, shipped_sheets
from thresher.compose.sheet_text import sheet_text
from thresher.engine.engine import Engine
from thresher.graphics.mirror import MirrorReader
from thresher.loads.status import CardStatus
from thresher.model.card_port import Artefact, CardUse
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import Finding, FindingKind
from thresher.model.parts import PartKind
from thresher.model.run_states import Ending, Outcome
from thresher.model.sheet import Block, RunSheet, Shape, ShapeKind, WorkingSet
from thresher.protocol.events import TickEvent
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.scenario import GraphicsSpec, Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
LUMEN = GraphicsSpec(name="Lumen L40", memory_gib=8)


def with_card(scenario: Scenario, *faults: Fault, cards: int = 1) -> Scenario:
    return replace(scenario, graphics=(LUMEN,) * cards, faults=faults)


def block(use: CardUse, seconds: float = 120.0, start: float = 0.0, **more: object) -> Block:
    return Block(PartKind.GRAPHICS, use.value, start, seconds, working_set=WorkingSet.MAIN_MEMORY, **more)  # type: ignore[arg-type]


def in_turn(*uses: CardUse, seconds: float = 120.0) -> RunSheet:
    return RunSheet("Cards", tuple(block(use, seconds, number * seconds) for number, use in enumerate(uses)))


def fault(kind: FaultKind, strength: float, card: str = "card0") -> Fault:
    return Fault(kind=kind, strength=strength, card=card, bit=19, at=0.37)


def test_a_sound_card_is_worked_checked_and_cleared(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_card(ferry))
    status = engine.run_to_end(in_turn(*CardUse, seconds=150.0))
    assert (status.ending, status.outcome) == (Ending.FINISHED, Outcome.CLEAN)
    assert engine.findings == ()
    tape = "\n".join(heard.tape())
    assert "16 lanes at 16 GT/s" in tape
    assert tape.count("Load of card0 ended") == 4
    assert "million chains checked, all right" in tape
    minutes = {each.load: each.temperature_c for each in engine.conductor.exposures()}
    assert set(minutes) == {use.value for use in CardUse}
    warm = minutes["raster"]
    assert warm is not None
    assert warm > 70  # counted at the card's temperature: the processor of this machine idles below 45


@pytest.mark.parametrize(
    ("kind", "strength", "uses", "code", "finding"),
    [
        (FaultKind.CARD_CORE, 400.0, (CardUse.COMPUTE,), "G-410", FindingKind.CARD_RESULT),
        (FaultKind.CARD_CORE, 400.0, (CardUse.RASTER,), "G-411", FindingKind.CARD_PIXEL),
        (FaultKind.CARD_MEMORY, 400.0, (CardUse.MEMORY,), "G-412", FindingKind.CARD_MEMORY),
        (FaultKind.CARD_MEMORY, 2000.0, (CardUse.TRANSFER,), "G-413", FindingKind.CARD_TRANSFER),
        (FaultKind.CARD_COOLER, 0.7, (CardUse.RASTER,), "G-441", FindingKind.CARD_HOT),
        (FaultKind.CARD_FAN, 1.0, (CardUse.RASTER,), "G-442", FindingKind.CARD_FAN),
        (FaultKind.CARD_PLUG, 400.0, (CardUse.RASTER,), "G-321", FindingKind.CARD_GONE),
        (FaultKind.CARD_CLOCKS, 400.0, (CardUse.RASTER,), "G-411", FindingKind.CARD_PIXEL),
        (FaultKind.CARD_DRIVER, 200.0, (CardUse.RASTER,), "G-310", FindingKind.GRAPHICS_HANG),
        (FaultKind.SLOT_LINK, 60.0, (CardUse.TRANSFER,), "G-420", FindingKind.CARD_LINK),
    ],
)
def test_each_fault_of_a_card_is_found(
    make_engine: MakeEngine,
    ferry: Scenario,
    kind: FaultKind,
    strength: float,
    uses: tuple[CardUse, ...],
    code: str,
    finding: FindingKind,
) -> None:
    engine, _ = make_engine(with_card(ferry, fault(kind, strength)))
    engine.run_to_end(in_turn(*uses, seconds=240.0))
    mine = [each for each in engine.findings if each.code == code]
    assert mine
    assert {each.kind for each in mine} == {finding}
    assert {each.load for each in mine} == {use.value for use in uses}
    assert all(each.temperature_c is None or each.temperature_c > 40 for each in mine)


def test_wrong_words_of_card_memory_lie_in_one_lane_and_one_region(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_card(ferry, fault(FaultKind.CARD_MEMORY, 2000.0)))
    engine.run_to_end(in_turn(CardUse.MEMORY, seconds=200.0))
    found = [each for each in engine.findings if each.code == "G-412"]
    lines = [line for each in found for line in each.raw.splitlines()]
    assert len(lines) >= 5
    for line in lines:
        address = int(line.split()[1].rstrip(":"), 16)
        expected, got = int(line.split("expected ")[1][:8], 16), int(line.rpartition(" ")[2], 16)
        assert expected ^ got == 1 << 19
        assert 0.36 < address / (8 << 30) < 0.39


def test_only_the_faulty_one_of_two_cards_is_accused(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_card(ferry, fault(FaultKind.CARD_CORE, 400.0, "card1"), cards=2))
    engine.run_to_end(RunSheet("Both", (block(CardUse.RASTER, 240.0),)))
    assert {each.place for each in engine.findings if each.kind is FindingKind.CARD_PIXEL} == {"card1"}
    verdict = engine.verdict
    assert verdict is not None
    assert (verdict.suspects[0].kind, verdict.suspects[0].place) == (PartKind.GRAPHICS, "card1")


def test_a_card_that_hangs_is_started_again_and_the_run_goes_on(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_card(ferry, fault(FaultKind.CARD_DRIVER, 60.0)))
    status = engine.run_to_end(RunSheet("Hangs", (block(CardUse.RASTER, 300.0), block(CardUse.COMPUTE, 60.0, 300.0))))
    assert status.ending is Ending.FINISHED
    tape = heard.tape()
    lost = [line for line in tape if "Load of card0 lost" in line]
    assert lost
    assert any("started again in 10 s" in line for line in lost)
    hangs = sum(each.kind is FindingKind.GRAPHICS_HANG for each in engine.findings)
    assert hangs <= len(lost)  # what the kernel reports and what we see of one hang is one finding


def test_a_card_off_the_bus_ends_its_load_and_its_readings(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_card(ferry, fault(FaultKind.CARD_PLUG, 900.0), cards=1))
    status = engine.run_to_end(in_turn(CardUse.RASTER, CardUse.COMPUTE, seconds=200.0))
    assert status.ending is Ending.FINISHED
    engine.watch(6)
    assert any("restart the machine" in line for line in heard.tape())
    assert any("card0 edge lost" in line for line in heard.tape())
    verdict = engine.verdict
    assert verdict is not None
    assert verdict.suspects[0].mode == "power.card-plug"


def test_what_a_person_sees_is_held_against_the_frames(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_card(ferry))
    with pytest.raises(EnvironmentFault, match="no scene is drawn"):
        engine.cards.report("card0", Artefact.DOTS)
    seen: list[Finding] = []

    def look(event: object) -> None:
        if isinstance(event, TickEvent) and event.run.run_at > 30 and not seen:
            seen.append(engine.cards.report("card0", Artefact.STRIPES))

    engine.subscribe(look)
    engine.run_to_end(in_turn(CardUse.RASTER, seconds=60.0))
    (finding,) = engine.findings
    assert (finding.code, finding.kind, finding.place) == ("G-450", FindingKind.ARTEFACT_SHOWN, "card0")
    assert "stripes" in finding.title
    assert engine.verdict is not None
    assert engine.verdict.suspects[0].kind is not PartKind.GRAPHICS


def test_an_artefact_beside_wrong_frames_is_the_cards(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_card(ferry, fault(FaultKind.CARD_CORE, 900.0)))
    done: list[str] = []

    def look(event: object) -> None:
        wrong = any(each.kind is FindingKind.CARD_PIXEL for each in engine.findings)
        if isinstance(event, TickEvent) and wrong and not done and event.run.loads:
            done.append(engine.cards.report("card0", Artefact.DOTS).code)

    engine.subscribe(look)
    engine.run_to_end(in_turn(CardUse.RASTER, seconds=200.0))
    assert done == ["G-451"]


def test_frames_are_channels_and_can_be_seen_while_the_scene_runs(
    make_engine: MakeEngine, ferry: Scenario, tmp_path: Path
) -> None:
    engine, heard = make_engine(with_card(ferry))
    frames: list[tuple[int, int]] = []

    def look(event: object) -> None:
        if not isinstance(event, TickEvent):
            return
        status = event.run.newest(CardStatus)
        if status is not None and status.cards[0].mirror and not frames and event.run.run_at > 5:
            frame = MirrorReader(status.cards[0].mirror).newest()
            assert frame is not None
            assert len(frame.pixels) == frame.width * frame.height * 4
            frames.append((frame.width, frame.height))

    engine.subscribe(look)
    engine.run_to_end(in_turn(CardUse.RASTER, seconds=30.0))
    assert frames == [(384, 216)]
    names = {channel.name: channel for channel in engine.channels}
    assert names["card0 frame time, median"].now_and_then
    ticks = [event.tick for event in heard.events if isinstance(event, TickEvent)]
    index = next(n for n, each in enumerate(engine.channels) if each.name == "card0 frame time, median")
    values = [tick.values[index] for tick in ticks]
    assert any(value is not None and 5 < value < 8 for value in values)  # 6.2 ms at full clock
    engine.watch(10)
    assert not any("frame time" in line and "lost" in line for line in heard.tape())


def test_a_card_held_at_a_temperature_stays_there(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_card(ferry))
    engine.run_to_end(RunSheet("Held", (block(CardUse.RASTER, 900.0, hold_c=60.0),)))
    index = next(n for n, each in enumerate(engine.channels) if each.name == "card0 hottest spot")
    ticks = [event.tick for event in heard.events if isinstance(event, TickEvent)]
    late = [tick.values[index] for tick in ticks[-200:]]
    assert all(value is not None and 52 < value < 66 for value in late)


def test_pulses_draw_in_step_with_the_processor(make_engine: MakeEngine, ferry: Scenario) -> None:
    pulse = Shape(ShapeKind.PULSE, 20.0, 0.5)
    both = (
        Block(PartKind.PROCESSOR, "matrix", 0.0, 120.0, shape=pulse),
        block(CardUse.RASTER, 120.0, shape=pulse),
    )
    engine, heard = make_engine(with_card(ferry))
    engine.run_to_end(RunSheet("Pulses", both))
    card = next(n for n, each in enumerate(engine.channels) if each.name == "card0 use")
    cpu = next(n for n, each in enumerate(engine.channels) if each.key == "stat/use")
    ticks = [e.tick for e in heard.events if isinstance(e, TickEvent) and 20 < e.run.run_at < 110]
    together = [((t.values[card] or 0) > 50, (t.values[cpu] or 0) > 30) for t in ticks]
    same = sum(one == other for one, other in together) / len(together)
    assert same > 0.85  # a reading straddles an edge now and then
    assert 0.3 < sum(one for one, _ in together) / len(together) < 0.7


# ---- sheets


def test_a_block_of_cards_reads_back_as_it_was_written() -> None:
    made = RunSheet(
        "Cards",
        (
            block(CardUse.MEMORY, 60.0, amount=4 << 30, cards=("card0",)),
            block(CardUse.RASTER, 60.0, 60.0, shape=Shape(ShapeKind.PULSE, 2.0, 0.5), hold_c=75.0),
        ),
    )
    again = parse_sheet(sheet_text(made), "text")
    assert again.blocks == made.blocks


def test_what_no_block_of_cards_can_have_is_refused() -> None:
    head = 'format = "thresher-sheet/1"\ntitle = "x"\n[[blocks]]\nstart = 0\nlength = 60\n'
    with pytest.raises(InputError, match="only a block of graphics names cards"):
        parse_sheet(f'{head}row = "processor"\nload = "matrix"\ncards = ["card0"]\n', "text")
    with pytest.raises(InputError, match="expected such as card0"):
        parse_sheet(f'{head}row = "graphics"\nload = "raster"\ncards = ["/dev/dri"]\n', "text")
    same = RunSheet("x", (block(CardUse.RASTER), block(CardUse.COMPUTE, start=10.0)))
    assert "name different cards for both" in sheet_faults(same)[0].message
    apart = (block(CardUse.RASTER, cards=("card0",)), block(CardUse.COMPUTE, start=10.0, cards=("card1",)))
    assert sheet_faults(RunSheet("x", apart)) == ()


def test_the_fields_of_a_card_block_can_be_typed() -> None:
    made = block_of(PartKind.GRAPHICS, Wish(load="card memory"), pick=Pick((), cards=("card0", "card1")))
    assert made is not None
    fields = {each.name: each for each in fields_of((made,))}
    assert shown_text(fields["cards"], (made,)) == "card0, card1"
    assert shown_text(fields["card memory"], (made,)) == "all free"
    changed = fields["card memory"].write(made, "4 GiB")
    assert isinstance(changed, Block)
    assert changed.amount == 4 << 30
    with pytest.raises(EntryError, match="16 MiB at least"):
        fields["card memory"].write(made, "1 MiB")
    with pytest.raises(EntryError, match="expected such as card0"):
        fields["cards"].write(made, "sda;rm")


def test_shipped_sheets_fit_machines_without_card_or_drive(make_engine: MakeEngine, ferry: Scenario) -> None:
    supply = load_sheet(shipped_sheets()["supply-test"])
    assert missing_rows(supply, {PartKind.PROCESSOR}) == (PartKind.DRIVE, PartKind.GRAPHICS)
    left = fitted(supply, {PartKind.PROCESSOR, PartKind.DRIVE})
    assert {each.row for each in left.blocks} == {PartKind.PROCESSOR, PartKind.DRIVE}
    picture = load_sheet(shipped_sheets()["picture-hunt"])
    assert fitted(picture, {PartKind.PROCESSOR}) == picture  # nothing would be left: the bench says what is missing
    engine, _ = make_engine(replace(ferry, graphics=()))
    engine.sheets.choose("supply-test")
    with pytest.raises(InputError, match="it has no card"):
        engine.sheets.choose("picture-hunt")
    words = announcement(picture, ())
    assert "graphics" in words.lower()
