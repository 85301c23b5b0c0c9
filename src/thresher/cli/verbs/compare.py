"""`thresher compare`."""

import re
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json
from thresher.cli.output import say, say_json
from thresher.model.errors import InputError, InputFault
from thresher.model.regular_file import is_there

if TYPE_CHECKING:
    from thresher.compare.comparison import Comparison, RunHeat
    from thresher.compare.stored_spans import HotPart, RunRef
    from thresher.heat.warming import Band

_RUNS = re.compile(r"(?P<job>.+?)(:(?P<runs>[0-9]+(,[0-9]+)*))?")


def compare(
    runs: Annotated[
        list[str], typer.Argument(metavar="RUN...", help="JOB for all runs of a job file, JOB:2 or JOB:1,3 for some.")
    ],
    part: Annotated[
        str, typer.Option("--part", help="processor, memory, or the name of a drive or card, such as nvme0n1.")
    ] = "",
    room: Annotated[
        str, typer.Option("--room", metavar="°C,…", help="Room temperature of each run in their order: 22,22.5,23.")
    ] = "",
    good: Annotated[
        str, typer.Option("--good", metavar="JOB:RUN", help="A known good run of such a machine, as the reference.")
    ] = "",
    json: Json = False,
) -> None:
    """Compare the heat of runs: plateau, thermal resistance, what changed and whether it is real."""
    from thresher.compare.apart import Request, compare_apart

    refs = tuple(ref for each in runs for ref in _refs(each))
    known = _refs(good) if good else []
    if len(known) > 1:
        raise InputError("--good", [InputFault("run", f"{good} has {len(known)} runs: name one, such as {good}:1")])
    found = compare_apart(Request(refs, _part(refs, part), _rooms(room, len(refs)), known[0] if known else None))
    if json:
        say_json(found)
    else:
        _print(found)
    refused = found.difference is not None and bool(found.difference.refused)
    raise typer.Exit(FAULTS if refused else FINE)


def _refs(text: str) -> "list[RunRef]":
    from thresher.compare.stored_spans import RunRef, list_runs

    found = _RUNS.fullmatch(text)
    path = Path(text)
    if found is not None and found["runs"] and not is_there(path):
        return [RunRef(found["job"], int(number)) for number in found["runs"].split(",")]
    choices = list_runs(path)
    fit = [choice.ref for choice in choices if not choice.unfit]
    if not fit:
        reasons = "; ".join(f"run {choice.ref.run}: {choice.unfit}" for choice in choices) or "it holds no run"
        raise InputError(path.name, [InputFault("runs", f"none can be compared ({reasons})")])
    return fit


def _part(refs: "tuple[RunRef, ...]", name: str) -> "HotPart | None":
    from thresher.compare.stored_spans import list_runs

    if not name:
        return None
    parts = [part for choice in list_runs(Path(refs[0].job)) for part in choice.parts]
    chosen = next((part for part in parts if name in (part.words, part.kind.value, part.place)), None)
    if chosen is None:
        listed = ", ".join(dict.fromkeys(part.words for part in parts)) or "none"
        raise InputError("--part", [InputFault("part", f"{name} has no temperature in these runs; known: {listed}")])
    return chosen


def _rooms(text: str, count: int) -> dict[int, float]:
    if not text.strip():
        return {}
    given = [each.strip() for each in text.split(",")]
    try:
        rooms = {place: float(each) for place, each in enumerate(given) if each}
    except ValueError as error:
        raise InputError(
            "--room", [InputFault("°C", f"expected numbers with commas between, found {text!r}")]
        ) from error
    if len(given) > count:
        raise InputError("--room", [InputFault("°C", f"{len(given)} temperatures for {count} runs")])
    odd = [each for each in rooms.values() if not -30.0 <= each <= 60.0]
    if odd:
        raise InputError("--room", [InputFault("°C", f"expected -30 to 60, found {odd[0]:g}")])
    return rooms


def _print(found: "Comparison") -> None:
    say(f"Heat of the {found.part.words}, {len(found.runs)} run{'s' if len(found.runs) > 1 else ''}")
    for run in found.runs:
        _print_run(run)
    difference = found.difference
    if difference is not None:
        names = [found.runs[place].choice.name for place in (difference.first, difference.second)]
        say(f"\n{names[0]} against {names[1]}")
        for each in difference.conditions:
            follows = f"  {each.consequence}" if each.consequence else ""
            say(f"  {each.name:18}{each.fairness.value:11}{each.found}{follows}")
    if found.remedies:
        say("\nExpected gain of remedies, cheapest first")
        for remedy in found.remedies:
            say(f"  {remedy.gain.low:3.0f} to {remedy.gain.high:.0f} K  {remedy.words}")
    say(f"\n{found.sentence}")
    if found.advice and found.advice != found.sentence:
        say(found.advice)


def _print_run(run: "RunHeat") -> None:
    choice = run.choice
    simulated = ", simulated machine" if choice.simulated else ""
    say(f"\nRun {choice.ref.run}: {choice.name}, {choice.sheet}, {choice.load} for {run.minutes:.0f} min{simulated}")
    where = "plateau" if run.reached else "predicted, not at the plateau yet"
    say(f"  {run.plateau.value:.1f} °C ({_range(run.plateau, 1)}), {where}")
    if run.resistance is not None and run.power_w is not None:
        say(f"  {run.resistance.value:.3f} K/W ({_range(run.resistance, 3)}) from die to room at {run.power_w:.0f} W")
    if run.room_c is not None:
        say(f"  room {run.room_c:.1f} °C, {run.room_from.value}")
    for constant, amount in run.time_constants:
        say(f"  time constant {constant.value:.0f} s ({_range(constant, 0)}), {amount.value:.0f} K")
    for reason in run.verdict.reasons:
        say(f"  {reason}")
    say(f"  {run.verdict.sentence}")


def _range(band: "Band", digits: int) -> str:
    return f"{band.low:.{digits}f} to {band.high:.{digits}f}"
