"""A job in so few words that they fit into a code on the screen: for where nothing else can be taken along."""

from collections import Counter
from pathlib import Path

from thresher.app.stored_verdict import job_verdict, shop_of
from thresher.journal.jobfile import JobFile
from thresher.model.verdict import percent, suspect_title

MOST_BYTES = 900
"""What a code holds that a telephone reads from a screen: version 22 with medium correction has 1,003 bytes."""
_MOST_CODES = 12


def job_summary(job: Path) -> str:
    """Return number, machine, verdict, suspects and fault codes of a job file. Raises ThresherError."""
    with JobFile(job, read_only=True) as stored:
        fields = stored.job()
        verdict = job_verdict(stored, shop_of(stored))
        runs = stored.runs()
        codes: Counter[str] = Counter()
        for run in runs:
            for finding in stored.findings(run):
                codes[finding.code] += finding.count
        for finding in stored.findings_outside():
            codes[finding.code] += finding.count
    lines = [f"Thresher job {fields.get('number') or job.stem}", fields.get("machine", ""), verdict.sentence]
    lines += [f"{percent(each.probability)} {suspect_title(each)}" for each in verdict.suspects[:3]]
    lines += [f"run {each.number}: {each.title}, {each.ending or 'not ended'}" for each in runs[-4:]]
    if codes:
        lines.append(", ".join(f"{code} x{count}" for code, count in codes.most_common(_MOST_CODES)))
    text = "\n".join(line for line in lines if line)
    return text.encode()[:MOST_BYTES].decode(errors="ignore")
