"""`thresher endings`."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json
from thresher.cli.output import say, say_json
from thresher.model.errors import EnvironmentFault, InputError, InputFault


def endings(
    job: Annotated[Path | None, typer.Argument(help="A job file; without one, the jobs left open here.")] = None,
    seen: Annotated[
        str, typer.Option("--seen", help="Answer the question: what the screen did (--seen help lists the answers).")
    ] = "",
    json: Json = False,
) -> None:
    """Show how runs that nobody ended came to their end, or which jobs of this computer were left open."""
    if job is None:
        _left_open(json)
        return
    if seen:
        _answer(job, seen)
    from thresher.endings.compare import compare
    from thresher.journal.jobfile import JobFile
    from thresher.model.endings import ending_sentence

    with JobFile(job, read_only=True) as stored:
        found = stored.endings()
        unended = [(run.number, stored.interruption(run)) for run in stored.runs() if run.ending is None]
    compared = compare(found)
    if json:
        say_json({"endings": found, "compared": compared, "not_looked_into": [number for number, _ in unended]})
    else:
        for number, sentence in unended:
            say(f"Run {number}: {sentence}. Open the job on the bench to find out how it ended.")
        for ending in found:
            say(ending_sentence(ending))
            for trace in ending.traces:
                speaks = f"  -> {trace.speaks_for.value}" if trace.speaks_for is not None else ""
                say(f"    {trace.words}{speaks}")
            if ending.question:
                say(f"    Open question: {ending.question}")
        for sentence in compared:
            say(sentence)
        if not found and not unended:
            say("Every run of this job was ended in order.")
    raise typer.Exit(FAULTS if any(each.is_evidence for each in found) else FINE)


def _answer(job: Path, seen: str) -> None:
    """Take the answer to the last question that is open. Raises InputError, EnvironmentFault."""
    from thresher.app.machines import open_system
    from thresher.app.wiring import make_engine
    from thresher.cli.running import end_engine
    from thresher.model.endings import SeenAtEnd

    known = {each.name.lower(): each for each in SeenAtEnd}
    if seen not in known:
        listed = "; ".join(f"{name}: {each.value}" for name, each in known.items())
        raise InputError("--seen", [InputFault("seen", f"expected one of {listed}")])
    engine = make_engine(open_system(None), job)
    try:
        asked = [number for number, each in enumerate(engine.endings.endings) if each.question]
        if not asked:
            raise EnvironmentFault("answering", "no question is open", "See thresher endings JOB.")
        engine.endings.answer(asked[-1], known[seen])
    finally:
        end_engine(engine)


def _left_open(json: bool) -> None:
    from thresher.app.open_jobs import jobs_left_open

    found = jobs_left_open()
    if json:
        say_json(found)
    else:
        for each in found:
            say(f"{each.path}: left open {each.when}, {each.words}")
        if not found:
            say("No job was left open on this computer.")
    raise typer.Exit(FINE)
