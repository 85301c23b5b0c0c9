"""`thresher verdict`."""

from pathlib import Path

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json, Shop
from thresher.cli.output import say, say_json


def verdict(job: Path, shop: Shop = None, json: Json = False) -> None:
    """Show suspects, decision and next test of a job file."""
    from thresher.app import stored_verdict
    from thresher.cli.printing import print_verdict
    from thresher.journal.jobfile import JobFile
    from thresher.journal.rescue import waiting_files
    from thresher.model.endings import ending_sentence
    from thresher.model.run_states import Ending

    with JobFile(job, read_only=True) as stored:
        result = stored_verdict.job_verdict(stored, shop or stored_verdict.shop_of(stored))
        open_ended = [(run.number, stored.interruption(run)) for run in stored.runs() if run.ending is None]
        endings = stored.endings()
        judged = {each.run for each in endings}
        open_ended += [
            (run.number, run.ending_detail)
            for run in stored.runs()
            if run.ending is Ending.INTERRUPTED and run.number not in judged
        ]
    if json:
        say_json(result)
    else:
        for file in waiting_files(job):
            say(f"Rows of this job wait in {file} and are not counted here. Open the job on the bench to put them in.")
        for number, sentence in open_ended:
            say(f"Run {number}: {sentence}.")
        for ending in endings:
            say(f"{ending_sentence(ending)}.")
            if ending.question:
                say(f"    {ending.question} Answer with thresher endings JOB --seen.")
        print_verdict(result)
        say(f"Next: {result.suspects[0].next_step}")
    raise typer.Exit(FAULTS if result.suspects[0].kind is not None else FINE)
