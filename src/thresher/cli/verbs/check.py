"""`thresher check`: component checks and rounds, in the terminal."""

from contextlib import nullcontext
from typing import TYPE_CHECKING, Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS, FINE
from thresher.cli.options import JobPath, Json, Root, Shop, Simulate, Speed
from thresher.cli.output import say, say_json
from thresher.model.parts import PartKind

if TYPE_CHECKING:
    from thresher.checks.check import Check
    from thresher.engine.engine import Engine
    from thresher.model.checks import CheckResult
    from thresher.model.sheet import RunSheet

Names = Annotated[list[str] | None, typer.Argument(help="Checks by name, or short or thorough for a round.")]
Parts = Annotated[list[PartKind] | None, typer.Option("--part", help="Only parts of this kind; may be repeated.")]


def check_app() -> typer.Typer:
    """Return the verbs about component checks."""
    app = typer.Typer(
        help="Component checks: each part tested by itself, or a round over all of them.", rich_markup_mode=None
    )
    app.command("list")(list_checks)
    app.command("describe")(describe)
    app.command("run")(run_checks)
    return app


def list_checks(root: Root = None, simulate: Simulate = None, json: Json = False) -> None:
    """List the checks, how long each takes, and whether this machine has what they test."""
    from thresher.app.machines import open_system
    from thresher.checks.registry import CHECKS
    from thresher.inventory.machine import read_inventory
    from thresher.model.sheet import clock_text

    inventory = read_inventory(open_system(root, simulate))
    if json:
        say_json([{**_described(check), "there": check.has_subject(inventory)} for check in CHECKS.values()])
        return
    for check in CHECKS.values():
        lacks = "" if check.has_subject(inventory) else f"  this machine has no {check.subject}"
        needs = f"  needs {', '.join(check.needs)}" if check.needs else ""
        say(f"{check.name:22} {check.row.value:10} {clock_text(check.seconds_on(inventory))}{needs}{lacks}")


def describe(names: Names = None, json: Json = False) -> None:
    """Say what a check tests and why, what it needs, finds and misses."""
    from thresher.checks.registry import CHECKS
    from thresher.compose.rounds import named_checks
    from thresher.model.sheet import clock_text

    checks = named_checks(names) if names else tuple(CHECKS.values())
    if json:
        say_json([_described(check) for check in checks])
        return
    for check in checks:
        say(f"{check.name} ({check.row.value}), about {clock_text(check.usual_s)}")
        say(f"  {check.about}")
        say(f"  Finds {check.finds}.")
        say(f"  Misses {check.misses}.")
        if check.needs:
            say(f"  Needs {', '.join(check.needs)}.")


def run_checks(
    names: Names = None,
    part: Parts = None,
    times: Annotated[int, typer.Option("--times", min=1, max=1000, help="How often to go over them.")] = 1,
    until_stopped: Annotated[bool, typer.Option("--until-stopped", help="Go over them until Ctrl+C.")] = False,
    simulate: Simulate = None,
    speed: Speed = None,
    job: JobPath = None,
    shop: Shop = None,
    ask: Annotated[bool, typer.Option("--ask", help="Ask here what only a person can tell.")] = False,
    json: Json = False,
) -> None:
    """Carry out checks by name, or a round: short (all parts, minutes) or thorough (hours)."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.cli.asking import asked_in_terminal
    from thresher.cli.running import carry_out, end_engine
    from thresher.compose.rounds import UNTIL_STOPPED

    system = open_system(None, simulate, speed)
    engine = wiring.make_engine(system, job, 1.0, shop, simulate or "")
    try:
        with asked_in_terminal(engine) if ask else nullcontext():
            sheet = _sheet(engine, names or ["short"], part or [], UNTIL_STOPPED if until_stopped else times)
            before = len(engine.snapshot().checks)
            status = carry_out(engine, sheet, json, lines_only=ask)
        results = engine.snapshot().checks[before:]
    finally:
        complete = end_engine(engine)
    if json:
        say_json({"sheet": sheet, "run": status, "results": results, "job_file": str(engine.job_file)})
    else:
        _print_results(results)
        say(f"Job file: {engine.job_file}")
    if not complete:
        raise typer.Exit(COULD_NOT)
    raise typer.Exit(exit_code(results))


def exit_code(results: "tuple[CheckResult, ...]") -> int:
    """Return 1 when a check failed, 2 when none could tell, else 0."""
    from thresher.model.checks import CheckOutcome

    outcomes = {each.outcome for each in results}
    if CheckOutcome.FAIL in outcomes:
        return FAULTS
    return FINE if CheckOutcome.PASS in outcomes else COULD_NOT


def _sheet(engine: "Engine", names: list[str], parts: list[PartKind], times: int) -> "RunSheet":
    from thresher.model.checks import Round

    kind = next((each for each in Round if names == [each.value]), None)
    engine.sheets.put_round(kind or Round.SHORT, parts, () if kind is not None else names, times)
    sheet = engine.conductor.sheet
    assert sheet is not None
    return sheet


def _print_results(results: "tuple[CheckResult, ...]") -> None:
    from thresher.model.checks import CheckOutcome

    say("")
    for each in results:
        code = f" {each.code}" if each.code else ""
        say(f"{each.outcome.value:14} {each.title}{code}: {each.why}")
        for figure in each.figures:
            say(f"{'':17}{figure.text}")
    failed = sum(each.outcome is CheckOutcome.FAIL for each in results)
    unclear = sum(each.outcome is not CheckOutcome.FAIL and each.outcome is not CheckOutcome.PASS for each in results)
    passed = len(results) - failed - unclear
    verdict = f"{failed} failed" if failed else "no faults found so far"
    say(f"\n{verdict}; {passed} passed, {unclear} inconclusive.")


def _described(check: "Check") -> dict[str, object]:
    return {
        "name": check.name,
        "part": check.row,
        "about": check.about,
        "finds": check.finds,
        "misses": check.misses,
        "seconds": check.usual_s,
        "needs": check.needs,
        "parts": check.parts,
        "code": check.code,
    }
