"""Proving: cases drawn, handled by a policy, and scored, on all cores."""

import os
import subprocess
from collections.abc import Callable, Iterator
from contextlib import ExitStack

import msgspec

from thresher.decoding.recognise import load_tables
from thresher.diagnosis.decision import load_prices
from thresher.diagnosis.knowledge import load_knowledge
from thresher.model.errors import EnvironmentFault
from thresher.model.own_program import own_command
from thresher.proving.fault_catalogue import OF_CARDS, OF_CHECKS, OF_CRASHES, OF_DRIVES
from thresher.proving.job import Job
from thresher.proving.policies import (
    Way,
    cheapest_first,
    every_trial,
    follow_advice,
    in_fixed_order,
    load_sheets,
)
from thresher.proving.policy_names import Field, Policy, RuleSet
from thresher.proving.scores import Result, result_of
from thresher.proving.symptomatic import draw_noticed_case
from thresher.simulator.fault_kinds import FaultKind

FAULTS_OF: dict[Field, tuple[FaultKind, ...]] = {
    Field.ALL: (),
    Field.DRIVES: OF_DRIVES,
    Field.CARDS: OF_CARDS,
    Field.CHECKS: OF_CHECKS,
    Field.CRASHES: OF_CRASHES,
}
"""Which faults are drawn; none named means all."""


def policy_named(name: Policy) -> Way:
    """Return how a policy goes about a job."""
    named: dict[Policy, Way] = {
        Policy.ADVISED: follow_advice(load_sheets()),
        Policy.CHEAPEST_FIRST: cheapest_first,
        Policy.FIXED_ORDER: in_fixed_order,
        Policy.EVERY_TRIAL: every_trial,
    }
    return named[name]


def prove_some(
    seed: int, numbers: range, policy: Policy, field: Field = Field.ALL, rules: RuleSet = RuleSet.OWN
) -> Iterator[Result]:
    """Draw cases, handle them, and hold what was done against what was wrong with them; one after the other."""
    tables, knowledge, prices, go = load_tables(), load_knowledge(), load_prices(), policy_named(policy)
    for number in numbers:
        case = draw_noticed_case(seed, number, tables, FAULTS_OF[field], rules)
        job = Job(case, tables, knowledge, prices)
        finished = go(job)
        yield result_of(case, job, finished)


def prove(
    seed: int,
    cases: int,
    policy: Policy,
    processes: int,
    progress: Callable[[int], None],
    field: Field = Field.ALL,
    rules: RuleSet = RuleSet.OWN,
) -> list[Result]:
    """Prove in several processes and return the results in the order of the cases. Raises EnvironmentFault.

    Every case draws its own chance, so that the number of processes changes nothing.
    """
    many = max(1, min(processes, cases))
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    results: list[Result] = []
    with ExitStack() as stack:
        workers = []
        for first in range(many):
            arguments = own_command(
                "thresher.proving", str(seed), str(first), str(cases), str(many), policy, field, rules
            )
            worker = subprocess.Popen(arguments, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            stack.callback(_end, worker)
            workers.append(worker)
        decoder = msgspec.json.Decoder(Result)
        streams = [iter(worker.stdout) for worker in workers if worker.stdout is not None]
        for number in range(cases):  # each worker's next result is that of its next case
            line = next(streams[number % many], b"")
            if not line:
                raise EnvironmentFault("proving", _last_words(workers[number % many]), "See the error above.")
            results.append(decoder.decode(line))
            progress(len(results))
    return results


def _end(worker: "subprocess.Popen[bytes]") -> None:
    if worker.poll() is None:
        worker.terminate()
    worker.wait()
    for stream in (worker.stdout, worker.stderr):
        if stream is not None:
            stream.close()


def _last_words(worker: "subprocess.Popen[bytes]") -> str:
    _, printed = worker.communicate(timeout=10.0)
    return printed.decode("utf-8", "replace").strip().rpartition("\n")[2] or f"a process ended with {worker.returncode}"
