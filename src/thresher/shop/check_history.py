"""What component checks said of a machine over all its visits, kept in the shop beside the machine's own file."""

from dataclasses import dataclass, replace
from pathlib import Path

from thresher.model.checks import CheckResult
from thresher.shop.store import change_file, read_file

FORMAT = "thresher-check-history/1"
_MOST_RESULTS = 2_000


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckHistory:
    """The results of a machine, oldest first, each with its job's file name."""

    format: str = FORMAT
    results: tuple[CheckResult, ...] = ()


def history_path(shop: Path, key: str) -> Path:
    """Return where a machine's results are kept."""
    return shop / "machines" / f"{key}.checks.json"


def past_results(shop: Path, key: str, job: str) -> tuple[CheckResult, ...]:
    """Return the results of a machine from other jobs. Raises InputError."""
    kept = read_file(history_path(shop, key), CheckHistory, FORMAT) or CheckHistory()
    return tuple(each for each in kept.results if each.job != job)


def keep_results(shop: Path, key: str, job: str, results: tuple[CheckResult, ...]) -> None:
    """Keep the results of a job in place of those that it had. Raises InputError, EnvironmentFault."""
    # runs are numbered job by job, and minutes count in their own job only
    mine = tuple(replace(each, job=job, run=None, worth_min=0.0) for each in results)

    def change(history: CheckHistory) -> CheckHistory:
        others = tuple(each for each in history.results if each.job != job)
        together = sorted((*others, *mine), key=lambda each: each.wall)
        return replace(history, results=tuple(together)[-_MOST_RESULTS:])

    change_file(history_path(shop, key), FORMAT, CheckHistory(), change)
