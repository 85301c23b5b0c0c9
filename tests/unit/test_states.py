"""The table of run states, and what an ending is worth."""

from itertools import product

import pytest

from thresher.model.errors import IllegalTransition
from thresher.model.run_states import TRANSITIONS, Ending, Outcome, RunState, change, outcome_of


@pytest.mark.parametrize(("now", "new"), list(product(RunState, RunState)))
def test_the_table_allows_or_raises(now: RunState, new: RunState) -> None:
    if new is now or new in TRANSITIONS[now]:
        assert change(now, new) is new
    else:
        with pytest.raises(IllegalTransition, match=f"from {now.value} to {new.value}"):
            change(now, new)


def test_every_state_has_its_row_and_nothing_follows_the_end() -> None:
    assert set(TRANSITIONS) == set(RunState)
    assert TRANSITIONS[RunState.ENDED] == frozenset()
    assert TRANSITIONS[RunState.STOPPING] == {RunState.ENDED}


@pytest.mark.parametrize("ending", [ending for ending in Ending if ending is not Ending.FINISHED])
def test_only_a_finished_run_can_be_clean(ending: Ending) -> None:
    assert outcome_of(ending, 0, 60.0) is Outcome.COULD_NOT_TELL
    assert outcome_of(ending, 1, 60.0) is Outcome.FAULTS_FOUND


def test_a_finished_run_is_clean_only_when_something_was_loaded() -> None:
    assert outcome_of(Ending.FINISHED, 0, 5.0) is Outcome.CLEAN
    assert outcome_of(Ending.FINISHED, 0, 0.0) is Outcome.COULD_NOT_TELL
    assert outcome_of(Ending.FINISHED, 2, 5.0) is Outcome.FAULTS_FOUND
