"""Rounds: run sheets that walk over the parts of a machine with one check after the other."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from thresher.checks.check import Check
from thresher.checks.registry import CHECKS
from thresher.loads.check_loads import CHECK_LOADS
from thresher.loads.registry import usual_working_set
from thresher.model.checks import CheckOutcome, CheckResult, Need, Round
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import Inventory, PartKind
from thresher.model.sheet import Block, RunSheet, clock_text

SHORT_ROUND = "Short round"
UNTIL_STOPPED = 0
"""As often as it goes until somebody stops it."""


@dataclass(frozen=True, slots=True)
class RoundPlan:
    """The checks of a round in their order, and those that are left out with why."""

    checks: tuple[Check, ...]
    left_out: tuple[tuple[Check, str], ...]
    seconds: float = 0.0
    """About how long it takes on that machine."""


def plan_round(kind: Round, inventory: Inventory, kinds: Iterable[PartKind] = (), attended: bool = False) -> RoundPlan:
    """Return the checks of a round for a machine, of some kinds of parts only where these are given."""
    wanted = frozenset(kinds)
    taken: list[Check] = []
    left: list[tuple[Check, str]] = []
    for check in CHECKS.values():
        if wanted and check.row not in wanted and not wanted & set(check.parts):
            continue
        if not check.has_subject(inventory):
            left.append((check, f"this machine has no {check.subject}"))
        elif check.long and kind is Round.SHORT:
            left.append((check, f"it takes {clock_text(check.seconds_on(inventory))}; the thorough round has it"))
        elif Need.PERSON in check.needs and (kind is Round.SHORT or not attended):
            left.append((check, "it needs a person"))
        else:
            taken.append(check)
    return RoundPlan(tuple(taken), tuple(left), _seconds(taken, inventory))


def _seconds(checks: Iterable[Check], inventory: Inventory) -> float:
    return sum(check.seconds_on(inventory) for check in checks)


def round_sheet(title: str, checks: Sequence[Check], inventory: Inventory, times: int = 1) -> RunSheet:
    """Return the sheet of some checks for a machine, one after the other, so many times.

    `UNTIL_STOPPED` times is again and again until somebody stops it. Raises InputError.
    """
    if not checks:
        raise InputError("round", [InputFault("checks", "none of the parts has a check")])
    if times != UNTIL_STOPPED and not 1 <= times <= 1000:
        raise InputError("round", [InputFault("times", f"expected 1 to 1000, or 0 until stopped; found {times}")])
    blocks, at = [], 0.0
    for check in list(checks) * max(1, times):
        place = usual_working_set(CHECK_LOADS[check.name])
        length = check.seconds_on(inventory)
        blocks.append(Block(check.row, check.name, at, length, working_set=place, is_check=True))
        at += length
    finds = "; ".join(dict.fromkeys(check.finds for check in checks)) if len(checks) == 1 else ""
    return RunSheet(title, tuple(blocks), finds=finds, repeat=times == UNTIL_STOPPED)


def results_sentence(results: Sequence[CheckResult]) -> str:
    """Return what a round has come to: no faults found so far, or what failed, and what could not be told."""
    failed = [each for each in results if each.outcome is CheckOutcome.FAIL]
    passed = sum(each.outcome is CheckOutcome.PASS for each in results)
    unclear = len(results) - len(failed) - passed
    words = f"failed: {', '.join(each.title for each in failed)}" if failed else "no faults found so far"
    return f"{words}; {passed} passed" + (f", {unclear} inconclusive" if unclear else "")


def long_part(inventory: Inventory) -> RoundPlan:
    """Return what the short round leaves out for its length: memory in full, drives in full."""
    checks = [check for check in CHECKS.values() if check.long and check.has_subject(inventory)]
    return RoundPlan(tuple(checks), (), _seconds(checks, inventory))


def named_checks(names: Iterable[str]) -> tuple[Check, ...]:
    """Return checks by name. Raises InputError with every name that is none."""
    wanted = tuple(names)
    faults = [
        InputFault("check", f"there is no check {name!r}; known are {', '.join(CHECKS)}")
        for name in wanted
        if name not in CHECKS
    ]
    if faults:
        raise InputError("round", faults)
    return tuple(CHECKS[name] for name in wanted)
