"""Checks of what a machine has beside its parts, by the engine on a simulated notebook with a person at it."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.checks.test_checks_on_machines import outcome, run
from tests.conftest import Heard
from thresher.compose.rounds import named_checks, plan_round, round_sheet
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.inventory.machine import read_inventory
from thresher.model.checks import CheckOutcome, Round
from thresher.model.errors import InputError
from thresher.model.parts import BuiltInKind
from thresher.protocol.events import EngineEvent, QuestionEvent
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import (
    DisplaySpec,
    FittingsSpec,
    Scenario,
    load_scenario,
    parse_scenario,
    shipped_scenarios,
)

MakeEngine = Callable[..., tuple[Engine, Heard]]
F = FaultKind

ALL = FittingsSpec(
    built_in=tuple(BuiltInKind),
    sound_outputs=("Speakers", "Headphones"),
    sound_inputs=("Microphone",),
    usb_ports=3,
    person=True,
)
CHECKS = (
    "picture",
    "brightness",
    "touch",
    "keys",
    "pointer",
    "speakers",
    "microphone",
    "sound loop",
    "camera",
    "USB ports",
    "card reader",
    "optical drive",
    "bluetooth",
    "management controller",
)
UNATTENDED = {"bluetooth", "management controller"}


@pytest.fixture
def notebook() -> Scenario:
    """The harbour master's notebook, sound, with everything built in, a second display and a person."""
    scenario = load_scenario(shipped_scenarios()["harbour-notebook"])
    displays = (
        DisplaySpec(connector="eDP-1", name="Skerry 14"),
        DisplaySpec(connector="HDMI-A-1", name="Skerry 24", width=2560, height=1440, wide_cm=53, high_cm=30),
    )
    return replace(scenario, faults=(), displays=displays, fittings=ALL, speed=0.0)


def test_a_sound_machine_passes_everything(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, heard = make_engine(notebook)
    results = run(engine, *CHECKS)
    assert set(outcome(results).values()) == {"pass"}, {title: (r.outcome, r.why) for title, r in results.items()}
    assert engine.findings == ()
    assert {title for title in results if title.startswith(("picture", "speakers", "USB"))} == {
        "picture, eDP-1",
        "picture, HDMI-A-1",
        "speakers, Speakers",
        "speakers, Headphones",
        "USB ports, port 1",
        "USB ports, port 2",
        "USB ports, port 3",
    }
    assert not heard.codes()


@pytest.mark.parametrize(
    ("fault", "check", "failed", "code", "words"),
    [
        (Fault(kind=F.DEAD_PIXEL), "picture", "picture, eDP-1", "G-460", "spot on white, spot on red"),
        (Fault(kind=F.BACKLIGHT_STUCK), "brightness", "brightness, panel0", "G-462", "does not respond"),
        (Fault(kind=F.TOUCH_DEAD, strength=2), "touch", "touch", "S-642", "18 of 144 fields did not respond"),
        (Fault(kind=F.KEY_CHATTERS), "keys", "keys", "S-640", "came twice at one press: N"),
        (Fault(kind=F.DEAD_SPEAKER, strength=1), "speakers", "speakers, Speakers", "U-110", "left tone: nothing"),
        (Fault(kind=F.SPEAKER_RATTLES), "speakers", "speakers, Speakers", "U-110", "sweep: distorted"),
        (Fault(kind=F.DEAF_MICROPHONE), "microphone", "microphone, Microphone", "U-120", "no voice comes through"),
        (Fault(kind=F.DEAD_SPEAKER, strength=2), "sound loop", "sound loop, Microphone", "U-130", "right tone"),
        (Fault(kind=F.SPEAKER_RATTLES), "sound loop", "sound loop, Microphone", "U-130", "distortion and noise"),
        (Fault(kind=F.DEAD_PORT, strength=2), "USB ports", "USB ports, port 2", "S-614", "not seen in this port"),
        (Fault(kind=F.DEAD_READER), "card reader", "card reader", "S-615", "the card was not detected"),
        (
            Fault(kind=F.TIRED_LASER, strength=1.0),
            "optical drive",
            "optical drive, sr0",
            "D-370",
            "cannot read any of the disc",
        ),
        (Fault(kind=F.BLUETOOTH_DEAD), "bluetooth", "bluetooth, hci0", "N-160", "did not start"),
        (Fault(kind=F.CONTROLLER_FAN), "management controller", "management controller", "S-450", "FAN1 too low"),
    ],
)
def test_each_fault_fails_its_check_and_no_other(
    make_engine: MakeEngine, notebook: Scenario, fault: Fault, check: str, failed: str, code: str, words: str
) -> None:
    engine, heard = make_engine(replace(notebook, faults=(fault,)))
    results = run(engine, check)
    wrong = {title: each for title, each in results.items() if each.outcome is not CheckOutcome.PASS}
    assert list(wrong) == [failed]
    assert wrong[failed].outcome is CheckOutcome.FAIL, wrong[failed].why
    assert wrong[failed].code == code
    assert words in wrong[failed].why
    assert code in heard.codes()
    assert [each.code for each in engine.findings] == [code]


@pytest.mark.parametrize(
    ("change", "check", "words"),
    [
        ({"built_in": ()}, "brightness", "no backlight"),
        ({"built_in": ()}, "optical drive", "no optical drive"),
        ({"built_in": ()}, "bluetooth", "no Bluetooth adapter"),
        ({"built_in": ()}, "management controller", "not there"),
        ({"sound_outputs": ()}, "speakers", "no sound output"),
        ({"sound_inputs": ()}, "microphone", "no sound input"),
        ({"sound_inputs": ()}, "sound loop", "a sound output and a sound input"),
        ({"usb_ports": 0}, "USB ports", "no stick was plugged in"),
    ],
)
def test_what_is_not_there_is_said(
    make_engine: MakeEngine, notebook: Scenario, change: dict[str, object], check: str, words: str
) -> None:
    engine, _ = make_engine(replace(notebook, fittings=replace(ALL, **change)))  # type: ignore[arg-type]
    (result,) = run(engine, check).values()
    assert result.outcome is CheckOutcome.INCONCLUSIVE
    assert words in result.why


@pytest.mark.parametrize("check", [name for name in CHECKS if name not in UNATTENDED])
def test_without_a_person_each_says_so(make_engine: MakeEngine, notebook: Scenario, check: str) -> None:
    engine, _ = make_engine(replace(notebook, fittings=replace(ALL, person=False)))
    results = run(engine, check)
    assert {each.outcome for each in results.values()} == {CheckOutcome.NEEDS_PERSON}


def test_a_scratch_is_not_taken_for_the_drive(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, _ = make_engine(replace(notebook, faults=(Fault(kind=F.TIRED_LASER, strength=0.2),)))
    (result,) = run(engine, "optical drive").values()
    assert result.outcome is CheckOutcome.INCONCLUSIVE
    # 333 000 blocks at 40 places of 256: the outer fifth holds the last eight, from 0.8 of the disc on
    assert result.why.startswith("8 of 40 places cannot be read")


def test_the_light_is_put_back_when_the_check_is_stopped(notebook: Scenario, tmp_path: Path) -> None:
    system = SimulatedMachine(replace(notebook, fittings=replace(ALL, person=False)), 0.0)
    engine = open_engine(system, tmp_path / "job.thresher", shop=tmp_path / "shop")
    light = "/sys/class/backlight/panel0/brightness"
    seen: list[bytes] = []

    def stop_when_asked(event: EngineEvent) -> None:
        if isinstance(event, QuestionEvent) and event.question is not None:
            seen.append(system.read(light))
            engine.submit(engine.stop)

    engine.questions.attended = True
    engine.subscribe(stop_when_asked)
    before = system.read(light)
    engine.run_to_end(round_sheet("light", named_checks(("brightness",)), engine.inventory))
    engine.close()
    assert seen == [b"40\n"], "a tenth of 400"
    assert before == b"240\n"
    assert system.read(light) == before


def test_the_inventory_lists_what_is_built_in(notebook: Scenario) -> None:
    found = read_inventory(SimulatedMachine(notebook, 0.0))
    assert [(each.kind, each.name) for each in found.built_in] == [
        (BuiltInKind.TOUCH, "Skerry touch panel"),
        (BuiltInKind.CAMERA, "Lookout 720: Lookout 720"),
        (BuiltInKind.CARD_READER, "mmc0"),
        (BuiltInKind.OPTICAL, "Halyard DVD-RW 8"),
        (BuiltInKind.BACKLIGHT, "panel0"),
        (BuiltInKind.BLUETOOTH, "hci0"),
        (BuiltInKind.CONTROLLER, "ipmi0"),
    ]
    displays = [part for part in found.parts if part.kind == "display"]
    assert [(part.name, part.place, part.fact("preferred mode")) for part in displays] == [
        ("Skerry 24", "HDMI-A-1", "2560x1440 at 60 Hz"),
        ("Skerry 14", "eDP-1", "1920x1080 at 60 Hz"),
    ]


def test_a_thorough_round_with_a_person_has_them_and_a_short_one_has_not(
    make_engine: MakeEngine, notebook: Scenario
) -> None:
    engine, _ = make_engine(notebook)
    engine.sheets.put_round(Round.THOROUGH, (), (), 1)
    sheet = engine.snapshot().sheet
    assert sheet is not None
    assert set(CHECKS) <= {block.load for block in sheet.blocks}
    engine.sheets.put_round(Round.SHORT, (), (), 1)
    sheet = engine.snapshot().sheet
    assert sheet is not None
    assert set(CHECKS) & {block.load for block in sheet.blocks} == UNATTENDED


def test_a_scenario_with_impossible_fittings_says_what_is_wrong() -> None:
    text = shipped_scenarios()["ferry-office"].read_text()
    for part, words in (
        ('[[displays]]\nconnector = "eDP-1"\nname = ""\nwidth = 9000\n', "displays[0]"),
        ('[fittings]\nbuilt_in = ["toaster"]\n', "fittings.built_in[0]"),
    ):
        with pytest.raises(InputError) as caught:
            parse_scenario(f"{text}\n{part}", "notebook")
        assert words in str(caught.value)


@pytest.mark.parametrize(
    ("fault", "check", "mode", "words"),
    [
        (Fault(kind=F.DEAD_PORT, strength=2), "USB ports", "board.ports", "Replace the port or its cable"),
        (Fault(kind=F.DEAF_MICROPHONE), "microphone", "sound.path", "Replace the speaker, microphone or sound card"),
        (Fault(kind=F.DEAD_PIXEL), "picture", "display.panel", "Replace the display"),
        (Fault(kind=F.KEY_CHATTERS), "keys", "board.input", "Replace the keyboard, touchpad or camera"),
        (Fault(kind=F.TIRED_LASER, strength=1.0), "optical drive", "drive.optical", "Replace the optical drive"),
        (Fault(kind=F.BLUETOOTH_DEAD), "bluetooth", "network.link", "Replace the network cable or adapter"),
        (Fault(kind=F.CLOCK_BATTERY), "clock battery", "board.clock-battery", "Replace the clock battery"),
    ],
)
def test_the_verdict_names_what_failed_and_not_the_whole_board(
    make_engine: MakeEngine, notebook: Scenario, fault: Fault, check: str, mode: str, words: str
) -> None:
    engine, _ = make_engine(replace(notebook, faults=(fault,)))
    run(engine, check)
    verdict = engine.verdict
    assert verdict is not None
    assert verdict.suspects[0].mode == mode
    assert verdict.suspects[0].probability > 0.9
    assert verdict.sentence.startswith(words), verdict.sentence
    whole_part = mode == "display.panel"
    assert verdict.acts[0].words == ("replace display" if whole_part else words[0].lower() + words[1:])


def test_a_wrong_name_server_makes_no_part_of_the_machine_suspect(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, _ = make_engine(replace(notebook, faults=(Fault(kind=F.WRONG_NAMES),)))
    run(engine, "names and internet")
    sound, _ = make_engine(notebook, "sound.thresher")
    run(sound, "names and internet")
    verdicts = engine.verdict, sound.verdict
    assert verdicts[0] is not None
    assert verdicts[1] is not None
    assert verdicts[0].suspects[0].mode == "nothing"
    sound_ones = {each.mode: each.probability for each in verdicts[1].suspects}
    assert len(sound_ones) > 5
    for mine in verdicts[0].suspects:
        # hypotheses hold two at most, so beside this one no pair of faults is counted: nothing else changes
        assert abs(mine.probability - sound_ones.get(mine.mode, 0.0)) < 0.1


def test_what_a_round_leaves_out_names_what_is_lacking(notebook: Scenario) -> None:
    bare = read_inventory(SimulatedMachine(replace(notebook, fittings=FittingsSpec()), 0.0))
    left = {check.name: why for check, why in plan_round(Round.THOROUGH, bare, attended=True).left_out}
    assert left["touch"] == "this machine has no touch screen"
    assert left["management controller"] == "this machine has no management controller"
    assert left["speakers"] == "this machine has no sound"
    assert "picture" not in left
