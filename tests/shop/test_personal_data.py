"""A customer's name goes from old jobs, from the file itself too; findings, runs and seals stay."""

import shutil
from pathlib import Path

import pytest

from tests.seal.conftest import change
from thresher.app.handing_over import keep_seal, write_handover
from thresher.journal.jobfile import JobFile
from thresher.journal.lock import acquire
from thresher.journal.writer import JournalWriter
from thresher.report.sections import Reader, usual_choice
from thresher.seal.keys import keyring_of
from thresher.seal.verify import check_job
from thresher.shop.personal_data import REMOVED, forget_customer

_FIELDS = {
    "customer": "Ida Tangen",
    "contact": "ida@example.org, 555 0142",
    "machine": "Tangen's sail loft PC",
    "words": "Ida says it is loud. Idaho is not meant.",
    "text_done": "Cleaned for Mrs TANGEN.",
}


@pytest.fixture
def job(tmp_path: Path, finished_job: Path) -> Path:
    path = Path(shutil.copy(finished_job, tmp_path / "0428.thresher"))
    for name, value in _FIELDS.items():
        change(path, "INSERT OR REPLACE INTO job VALUES (?, ?)", name, value)
    return path


def test_the_name_is_gone_from_every_field_and_from_the_file(job: Path) -> None:
    (job.parent / "0428.thresher.format-1").write_bytes(b"Ida Tangen, as it was before")
    done = forget_customer(job)
    assert set(done.removed) == set(_FIELDS) and not done.trouble and done.still_named == 0
    with JobFile(job, read_only=True) as stored:
        fields, runs = stored.job(), stored.runs()
    assert (fields["customer"], fields["contact"]) == ("", "")
    assert fields["machine"] == f"{REMOVED}'s sail loft PC"
    assert fields["words"] == f"{REMOVED} says it is loud. Idaho is not meant."
    assert fields["text_done"] == f"Cleaned for Mrs {REMOVED}."
    assert len(runs) == 1
    for path in job.parent.glob("*0428*"):
        data = path.read_bytes().lower()
        assert b"tangen" not in data and b"555 0142" not in data, path
    assert forget_customer(job).removed == ()


def test_seals_stay_valid_and_entries_with_the_name_are_counted(job: Path, tmp_path: Path) -> None:
    shop = tmp_path / "shop"
    writer = JournalWriter(job)
    writer.add_mark(None, 0.0, "tape", {"title": "Note", "detail": "Ida Tangen called"})
    writer.close()
    with JobFile(job, read_only=True) as stored:
        written = write_handover(stored, tmp_path / "r.html", usual_choice(Reader.CUSTOMER), shop)
    assert written is not None and keep_seal(job, written) == ""
    assert forget_customer(job).still_named == 1
    with JobFile(job, read_only=True) as stored:
        (found,) = check_job(stored, keyring_of(shop))
        assert any("Ida Tangen called" in text for text in stored.entry_texts())
    assert found.valid


def test_a_job_in_use_is_left_alone_with_the_reason(job: Path) -> None:
    lock = acquire(job, "the job file")
    try:
        assert "has it open" in forget_customer(job).trouble
    finally:
        lock.close()
    with JobFile(job, read_only=True) as stored:
        assert stored.job()["customer"] == "Ida Tangen"
    assert "no such file" in forget_customer(job.with_name("gone.thresher")).trouble
