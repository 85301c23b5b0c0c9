"""Finding jobs by anything that is known of them, and an index that is never the only place of anything."""

import os
import shutil
from pathlib import Path

import pytest

from thresher.journal.jobfile import JobFile, create_job
from thresher.shop.job_index import IndexedJob, find_jobs, index_path, refreshed_index, stored_index


@pytest.fixture
def jobs(tmp_path: Path, finished_job: Path) -> Path:
    folder = tmp_path / "jobs"
    folder.mkdir()
    shutil.copy(finished_job, folder / "0417-lighthouse.thresher")
    fields = {
        "number": "0007",
        "machine": "Museum, ticket desk",
        "customer": "Åse Lindström",
        "words": "It beeps twice.",
    }
    create_job(folder / "0007-museum.thresher", fields | {"symptoms": "does not start\tafter rain\tfan spins"})
    create_job(folder / "0041-school.thresher", {"number": "0041", "machine": "School, room 7"})
    return folder


def numbers(jobs: Path, shop: Path, query: str) -> list[str]:
    return [each.number or each.stem for each in find_jobs(refreshed_index(jobs, shop).jobs, query)]


def test_a_job_is_found_by_number_customer_words_part_serial_and_code(jobs: Path, tmp_path: Path) -> None:
    shop = tmp_path / "shop"
    with JobFile(jobs / "0417-lighthouse.thresher", read_only=True) as stored:
        machine = stored.machine()
        (code, *_) = stored.finding_codes()
    assert machine is not None
    serial = next(fact.value for part in machine.parts for fact in part.facts if fact.name == "serial")
    assert numbers(jobs, shop, "0007") == ["0007"]
    assert numbers(jobs, shop, "ÅSE lindstr") == ["0007"]
    assert numbers(jobs, shop, "beeps twice") == ["0007"]
    assert numbers(jobs, shop, "rain start") == ["0007"]
    assert numbers(jobs, shop, "tern 8-460") == ["0417-lighthouse"]
    assert numbers(jobs, shop, serial.lower()) == ["0417-lighthouse"]
    assert numbers(jobs, shop, code) == ["0417-lighthouse"]
    assert numbers(jobs, shop, "beeps walrus") == []
    assert len(numbers(jobs, shop, "")) == 3


def test_the_very_number_comes_first_and_then_the_newest(jobs: Path, tmp_path: Path) -> None:
    for age, name in enumerate(("0041-school", "0007-museum", "0417-lighthouse")):
        os.utime(jobs / f"{name}.thresher", (1_000_000 - age, 1_000_000 - age))
    assert numbers(jobs, tmp_path / "shop", "7") == ["0041", "0007", "0417-lighthouse"]
    assert numbers(jobs, tmp_path / "shop", "0007")[0] == "0007"


def test_only_what_has_changed_is_read_again(jobs: Path, tmp_path: Path) -> None:
    shop, read = tmp_path / "shop", []
    refreshed_index(jobs, shop, lambda done, of: read.append((done, of)))
    assert read == [(1, 3), (2, 3), (3, 3)]
    read.clear()
    refreshed_index(jobs, shop, lambda done, of: read.append((done, of)))
    assert read == []
    (jobs / "0007-museum.thresher").unlink()
    create_job(jobs / "0050-boat.thresher", {"number": "0050", "words": "beeps"})
    assert numbers(jobs, shop, "beeps") == ["0050"]
    assert {each.number for each in stored_index(shop).jobs} == {"", "0041", "0050"}


@pytest.mark.parametrize("content", [b"", b"{", b'{"format": "thresher-job-index/1", "jobs": 3}', b"\xff\xfe"])
def test_a_damaged_index_is_made_again(jobs: Path, tmp_path: Path, content: bytes) -> None:
    shop = tmp_path / "shop"
    refreshed_index(jobs, shop)
    index_path(shop).write_bytes(content)
    assert numbers(jobs, shop, "beeps") == ["0007"]


def test_a_job_that_cannot_be_read_is_found_by_its_name_with_the_reason(jobs: Path, tmp_path: Path) -> None:
    (jobs / "0099-wreck.thresher").write_bytes(b"not a job at all")
    (found,) = find_jobs(refreshed_index(jobs, tmp_path / "shop").jobs, "wreck")
    assert isinstance(found, IndexedJob)
    assert "not a Thresher job file" in found.trouble
