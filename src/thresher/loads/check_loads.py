"""Component checks as what a block of a run sheet can ask for; `thresher.checks` holds what they do."""

from dataclasses import dataclass

from thresher.checks.check import Check
from thresher.checks.registry import CHECKS
from thresher.loads.device_load import SteadyLoad


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckLoad(SteadyLoad):
    """One check as a block of the sheet."""

    check: Check

    @property
    def name(self) -> str:
        """The name that a run sheet uses."""
        return self.check.name


def _load_of(check: Check) -> CheckLoad:
    return CheckLoad(
        check=check,
        strains=check.about,
        finds=check.finds,
        misses=check.misses,
        usual_s=check.usual_s,
        ends_itself=True,
        heat=0.3,
        row=check.row,
    )


CHECK_LOADS: dict[str, CheckLoad] = {name: _load_of(check) for name, check in CHECKS.items()}
