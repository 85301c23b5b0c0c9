"""When parts of a simulated machine slip: which loads, how hot, how fast, and how steadily."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.model.port import Stress
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.intermittent_faults import (
    CACHE_BANK,
    PARITY_BANK,
    RULES,
    Interconnect,
    IntermittentFaults,
    LooseContact,
    Moment,
)

F = FaultKind
WIDE = Stress(1.0, 1.0, True, 0.05)
NARROW = Stress(1.0, 0.5, False, 0.0)
MEMORY = Stress(1.0, 0.45, False, 1.0)


def moment(stress: Stress = WIDE, die_c: float = 80.0, clock: float = 0.9, memory_c: float = 45.0) -> Moment:
    return Moment(stress, die_c, clock, memory_c)


def rate(kind: FaultKind, strength: float, now: Moment) -> float:
    return RULES[kind](Fault(kind=kind, strength=strength), now)


def test_a_vector_unit_slips_in_wide_loads_only_and_more_when_hot() -> None:
    assert rate(F.WEAK_VECTOR_UNIT, 5, moment(NARROW)) == 0.0
    cool, hot = (rate(F.WEAK_VECTOR_UNIT, 5, moment(die_c=each)) for each in (50.0, 90.0))
    assert 0 < cool < hot == pytest.approx(5.0)


def test_a_cache_bit_slips_at_any_temperature() -> None:
    assert len({rate(F.CACHE_BIT, 3, moment(die_c=each)) for each in (30.0, 60.0, 95.0)}) == 1


def test_overclock_wants_heat_and_undervolt_high_clocks_and_edges() -> None:
    assert rate(F.OVERCLOCK, 300, moment(die_c=95)) > 5 * rate(F.OVERCLOCK, 300, moment(die_c=50))
    assert rate(F.OVERCLOCK, 300, moment()) > rate(F.OVERCLOCK, 100, moment())
    assert rate(F.UNDERVOLT, 60, moment(clock=1.0)) > 2 * rate(F.UNDERVOLT, 60, moment(clock=0.8))
    edged = moment(Stress(1.0, 1.0, True, 0.0, 50.0))
    assert rate(F.UNDERVOLT, 60, edged) > 3 * rate(F.UNDERVOLT, 60, moment())


def test_memory_faults_want_traffic() -> None:
    for kind in (F.MEMORY_CONTROLLER, F.MEMORY_TIMING):
        assert rate(kind, 600, moment(NARROW)) == 0.0
        assert rate(kind, 600, moment(MEMORY)) > 0.0
    warm, hot = (rate(F.MEMORY_TIMING, 600, moment(MEMORY, memory_c=each)) for each in (45.0, 50.0))
    assert hot == pytest.approx(2 * warm)
    cool, hot = (rate(F.MEMORY_CONTROLLER, 600, moment(MEMORY, die_c=each)) for each in (50.0, 95.0))
    assert hot == pytest.approx(3 * cool)


@given(
    st.sampled_from(sorted(RULES)),
    st.floats(0, 1000),
    st.floats(0, 1),
    st.floats(20, 110),
    st.floats(0.1, 1),
    st.floats(0, 60),
)
def test_no_moment_gives_a_rate_below_nothing(
    kind: FaultKind, strength: float, busy: float, die_c: float, clock: float, edges: float
) -> None:
    now = moment(Stress(busy, 1.0, True, 1.0, edges), die_c, clock)
    assert rate(kind, strength, now) >= 0.0
    assert rate(kind, strength, moment(Stress(0.0, 1.0, True, 1.0, edges), die_c, clock)) == 0.0


def frail(kind: FaultKind, strength: float = 600.0, core: int = 0, seed: int = 3) -> IntermittentFaults:
    return IntermittentFaults(
        Fault(kind=kind, strength=strength, core=core, bit=19, at=0.5), np.random.default_rng(seed)
    )


def test_slips_come_as_often_as_their_rate_states() -> None:
    fault = frail(F.WEAK_VECTOR_UNIT, 60.0)
    for _ in range(6000):
        fault.step({0: moment(die_c=90.0)}, 0.1)
    flips = fault.take_flips(0, 10, 1000)
    assert 480 < len(flips) < 720
    assert fault.take_flips(0, 10, 1000) == []


def test_only_the_named_core_slips_unless_the_whole_machine_does() -> None:
    both = {0: moment(die_c=90.0), 1: moment(die_c=90.0)}
    one, every = frail(F.WEAK_VECTOR_UNIT, core=1), frail(F.OVERCLOCK)
    for _ in range(600):
        one.step(both, 0.1)
        every.step(both, 0.1)
    assert one.take_flips(0, 10, 100) == []
    assert one.take_flips(1, 10, 100)
    assert every.take_flips(0, 10, 100)
    assert every.take_flips(1, 10, 100)


def test_a_steady_fault_favours_its_bit_and_word_and_is_wrong_again() -> None:
    fault = frail(F.WEAK_VECTOR_UNIT)
    for _ in range(600):
        fault.step({0: moment(die_c=90.0)}, 0.1)
    flips = fault.take_flips(0, 10, 1000)
    assert sum(flip.bit == 19 and flip.word == 500 for flip in flips) > 0.8 * len(flips)
    assert all(flip.again in (2, 3) for flip in flips)
    assert all(0 <= flip.beat < 10 for flip in flips)


def test_slips_wait_for_a_beat_that_they_can_spoil() -> None:
    fault = frail(F.WEAK_VECTOR_UNIT)
    for _ in range(100):
        fault.step({0: moment(die_c=90.0)}, 0.1)
    assert fault.take_flips(0, 0, 1000) == []
    assert fault.take_flips(0, 3, 1000)


@pytest.mark.parametrize(("kind", "bank"), [(F.CACHE_BIT, CACHE_BANK), (F.OVERCLOCK, PARITY_BANK)])
def test_what_is_corrected_goes_to_the_log_with_its_bank(kind: FaultKind, bank: int) -> None:
    fault = frail(kind)
    for _ in range(600):
        fault.step({0: moment(die_c=90.0)}, 0.1)
    corrected = fault.take_corrected()
    assert corrected
    assert {each[2] for each in corrected} == {bank}
    assert all(status >> 63 & 1 and not status >> 61 & 1 for _, status, _, _ in corrected)
    assert fault.take_corrected() == []


def test_only_relay_has_messages_to_spoil() -> None:
    link = Interconnect(Fault(kind=F.COHERENCE, strength=600.0), np.random.default_rng(1))
    for _ in range(100):
        link.step(False, 0.1)
    assert link.take_flips(5) == []
    for _ in range(100):
        link.step(True, 0.1)
    assert link.take_flips(0) == []
    assert 0 < len(link.take_flips(5)) <= 5


def test_a_loose_contact_has_spells_within_its_module_and_on_its_bit() -> None:
    contact = LooseContact(Fault(kind=F.SLOT_CONTACT, slot="A1", strength=3600.0, bit=7), np.random.default_rng(2))
    assert contact.take_flips(0.0, 4, 1000, (0.25, 0.5)) == []
    now, spells, flips = 0.0, 0, []
    while now < 60.0:
        before = contact.until
        contact.step(now, 0.1)
        spells += contact.until != before
        flips += contact.take_flips(now, 4, 1000, (0.25, 0.5))
        now += 0.1
    assert spells > 1
    assert {flip.bit for flip in flips} == {7}
    assert all(250 <= flip.word < 500 for flip in flips)
