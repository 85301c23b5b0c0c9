"""What was changed on a run sheet while it was carried out."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.model.sheet import Block


class ChangeKind(StrEnum):
    """What a change does."""

    MORE_TIME = "more time"
    END = "end"
    LEAVE_OUT = "leave out"
    APPEND = "append"
    GO_ON = "go on"


@dataclass(frozen=True, slots=True)
class SheetChange:
    """One change: seconds into the run, what it does, the step that it is about, and the same in words.

    `block` is the one that was put behind the others, None for other changes.
    """

    run_at: float
    kind: ChangeKind
    step: int
    what: str
    block: Block | None = None
