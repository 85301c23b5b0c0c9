"""The proving ground draws what only checks find, and the advice names what is to be replaced."""

from collections import Counter

import pytest

from thresher.decoding.recognise import load_tables
from thresher.diagnosis.decision import load_prices
from thresher.diagnosis.knowledge import load_knowledge
from thresher.model.parts import BuiltInKind
from thresher.proving.cases import Case, Sort, draw_case
from thresher.proving.fault_catalogue import ITEMS, OF_CHECKS
from thresher.proving.ground import policy_named
from thresher.proving.job import Job
from thresher.proving.policy_names import Policy
from thresher.proving.scores import Result, result_of
from thresher.simulator.fault_kinds import FaultKind

TABLES = load_tables()


def handled(case: Case) -> Result:
    job = Job(case, TABLES, load_knowledge(), load_prices())
    return result_of(case, job, policy_named(Policy.ADVISED)(job))


def test_every_such_fault_is_drawn_on_a_machine_that_has_what_fails() -> None:
    cases = [draw_case(3, number, only=OF_CHECKS) for number in range(400)]
    drawn = Counter(trouble.fault.kind for case in cases for trouble in case.own_troubles)
    assert set(drawn) == set(OF_CHECKS)
    assert all(set(case.machine.fittings.built_in) == set(BuiltInKind) for case in cases)
    assert all(case.machine.fittings.person for case in cases)
    tags = {trouble.tag for case in cases for trouble in case.own_troubles}
    assert tags <= ITEMS | {"A1", "C1", "V1"}


def test_other_machines_are_drawn_as_ever() -> None:
    plain = [draw_case(3, number) for number in range(60)]
    assert not any(trouble.fault.kind in OF_CHECKS for case in plain for trouble in case.troubles)
    assert not any(case.machine.fittings.person for case in plain)


def first_of(kind: FaultKind) -> Case:
    return next(
        case
        for number in range(900)
        if (case := draw_case(3, number, only=OF_CHECKS)).sort is Sort.SINGLE and case.troubles[0].fault.kind is kind
    )


@pytest.mark.parametrize(
    ("kind", "step"),
    [
        (FaultKind.BATTERY_WORN, "replace A1"),
        (FaultKind.DEAD_PORT, "replace port or its cable"),
        (FaultKind.WEAK_RADIO, "replace wireless card or antenna"),
        (FaultKind.DEAF_MICROPHONE, "replace speaker, microphone or sound card"),
        (FaultKind.FAN_DEAF, "replace C1"),
        (FaultKind.DEAD_PIXEL, "replace V1"),
        (FaultKind.TIRED_LASER, "replace optical drive"),
        (FaultKind.WEAK_ADAPTER, "replace adapter"),
    ],
)
def test_what_a_check_finds_is_replaced_and_nothing_else(kind: FaultKind, step: str) -> None:
    result = handled(first_of(kind))
    assert result.steps == (step,)
    assert result.right_first
    assert result.fixed


def test_a_sound_machine_is_handed_back_as_it_is() -> None:
    case = next(
        case
        for number in range(40)
        if (case := draw_case(3, number, only=OF_CHECKS)).sort is Sort.SOUND and not case.troubles
    )
    assert handled(case).steps == ()
