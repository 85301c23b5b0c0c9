"""The states of a run and which may follow which."""

from enum import StrEnum

from thresher.model.errors import IllegalTransition


class RunState(StrEnum):
    """Where a run is. `WAITING` stands in a gate, `LOADING` has at least one block running."""

    IDLE = "idle"
    WAITING = "waiting"
    PREPARING = "preparing"
    LOADING = "loading"
    BETWEEN = "between blocks"
    STOPPING = "stopping"
    ENDED = "ended"


class StepState(StrEnum):
    """Where a step is on its way."""

    COMING = "coming"
    RUNNING = "running"
    DONE = "done"
    LEFT_OUT = "left out"

    @property
    def over(self) -> bool:
        """Whether nothing more happens with it."""
        return self in (StepState.DONE, StepState.LEFT_OUT)


class Ending(StrEnum):
    """How a run ended."""

    FINISHED = "finished"
    STOPPED = "stopped"
    TRIPPED = "tripped"
    INTERRUPTED = "interrupted"
    COULD_NOT_RUN = "could not run"


class Outcome(StrEnum):
    """What a run is worth. It starts as not finished, and only the evaluation raises it."""

    NOT_FINISHED = "not finished"
    CLEAN = "clean"
    FAULTS_FOUND = "faults found"
    COULD_NOT_TELL = "could not tell"


_ACTIVE = {RunState.WAITING, RunState.PREPARING, RunState.LOADING, RunState.BETWEEN}

TRANSITIONS: dict[RunState, frozenset[RunState]] = {
    RunState.IDLE: frozenset(_ACTIVE - {RunState.LOADING}),
    **{state: frozenset(_ACTIVE | {RunState.STOPPING}) for state in _ACTIVE},
    RunState.STOPPING: frozenset({RunState.ENDED}),
    RunState.ENDED: frozenset(),
}


def change(now: RunState, new: RunState) -> RunState:
    """Return the new state. Raises IllegalTransition when the table does not allow it."""
    if new is not now and new not in TRANSITIONS[now]:
        raise IllegalTransition(f"a run cannot go from {now.value} to {new.value}")
    return new


def outcome_of(ending: Ending, findings: int, loaded_minutes: float) -> Outcome:
    """Evaluate a run that has ended: faults found count however it ended, clean only when it was finished."""
    if findings:
        return Outcome.FAULTS_FOUND
    if ending is Ending.FINISHED and loaded_minutes > 0:
        return Outcome.CLEAN
    return Outcome.COULD_NOT_TELL
