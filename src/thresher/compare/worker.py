"""Compares runs: takes a request as JSON on standard input, writes the answer as JSON.

Usage: python -m thresher.compare.worker."""

import os
import sys
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # small matrices: more threads only wait for each other

import msgspec

from thresher.compare.apart import Answer, Request
from thresher.compare.comparison import Comparison, compare
from thresher.compare.stored_spans import HotPart, RunRef, RunSpan, list_runs, read_spans
from thresher.heat.analysis import analyse
from thresher.model.apart import failure_of
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.parts import PartKind


def carry_out(request: Request) -> Comparison:
    """Carry out a request. Raises InputError or EnvironmentFault."""
    part = request.part or first_part(request)
    spans: tuple[RunSpan, ...] = read_spans(request.refs, part, request.rooms)
    return compare(spans, part, reference_of(request.good, part) if request.good is not None else None)


def reference_of(good: RunRef, part: HotPart) -> float:
    """Return the resistance in K/W of a known-good run. Raises InputError, EnvironmentFault."""
    (known,) = read_spans((good,), part, {})
    heat = analyse(known.span)
    if heat is None or heat.resistance is None:
        fault = InputFault(f"run {good.run}", "it cannot be the reference: no power reading, or too few readings")
        raise InputError(Path(good.job).name, [fault])
    return heat.resistance.value


def first_part(request: Request) -> HotPart:
    """Return the first part whose heat all runs show, the processor where there is none."""
    shown = []
    for ref in request.refs:
        runs = list_runs(Path(ref.job))
        shown += [choice.parts for choice in runs if choice.ref.run == ref.run]
    return next(
        (part for part in (shown[0] if shown else ()) if all(part in each for each in shown)),
        HotPart(PartKind.PROCESSOR),
    )


def main() -> int:
    """Answer one request, without taking time from a load that may be running."""
    os.nice(10)
    request = msgspec.json.decode(sys.stdin.buffer.read(), type=Request)
    try:
        answer = Answer(carry_out(request))
    except (InputError, EnvironmentFault) as error:
        answer = Answer(failure=failure_of(error))
    sys.stdout.buffer.write(msgspec.json.encode(answer))
    return 0


if __name__ == "__main__":
    sys.exit(main())
