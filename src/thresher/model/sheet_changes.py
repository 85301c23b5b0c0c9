"""What was changed on a run sheet while it was carried out."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class SheetChange:
    """One change: seconds into the run, the step that it is about, and what was changed in words."""

    run_at: float
    step: int
    what: str
