"""The verdict on a stored job."""

from pathlib import Path

from thresher.app.paths import bench_folder
from thresher.diagnosis.decision import load_prices, read_prices
from thresher.diagnosis.evidence import evidence_of
from thresher.diagnosis.knowledge import load_knowledge
from thresher.diagnosis.shop_priors import with_closed_jobs
from thresher.diagnosis.verdict import diagnose
from thresher.journal.jobfile import JobFile
from thresher.model.findings import Finding, trusted_findings
from thresher.model.job import parse_complaints
from thresher.model.trials import EMPTY_BOOK
from thresher.model.verdict import Exposure, Verdict
from thresher.shop.store import prices_path, read_closed_jobs


def shop_of(stored: JobFile) -> Path:
    """Return the folder of the shop that a stored job belongs to, as `make_engine` would take it."""
    simulated = bool(stored.job().get("model")) or any(run.simulated for run in stored.runs())
    return bench_folder(simulated) / "shop"


def job_verdict(stored: JobFile, shop: Path | None = None) -> Verdict:
    """Work out the verdict on everything that a job file holds, with the closed jobs and prices of a shop.

    Without a shop by the knowledge base and the default prices alone. Raises InputError for files of the shop that
    cannot be understood.
    """
    findings: list[Finding] = []
    exposures: list[Exposure] = []
    cores = 1
    for run in stored.runs():
        ignored = frozenset(channel.key for channel in run.channels if channel.distrust)
        findings += trusted_findings(stored.findings(run), ignored)
        exposures += stored.exposures(run)
        cores = run.machine.core_count
    findings += stored.findings_outside()
    exposures += stored.exposures_outside()
    symptoms = tuple(each.text for each in parse_complaints(stored.job().get("symptoms", "")))
    book = stored.book() or EMPTY_BOOK
    evidence = evidence_of(findings, exposures, cores, symptoms, book)
    knowledge, prices = load_knowledge(), load_prices()
    if shop is not None:
        knowledge = with_closed_jobs(
            knowledge, (each for each in read_closed_jobs(shop) if each.job != stored.path.stem)
        )
        prices = read_prices(prices_path(shop))
    return diagnose(evidence, knowledge, prices, book)
