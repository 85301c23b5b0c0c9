"""The verbs of handing over: report, verify, find, history, backup, restore, forget."""

import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.seal.conftest import change
from thresher.cli.app import main
from thresher.journal.jobfile import JobFile
from thresher.seal.keys import shop_key

Do = Callable[..., tuple[int, str]]


@pytest.fixture
def bench(tmp_path: Path, finished_job: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """This user's bench of simulated machines, with one job."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    folder = tmp_path / "data" / "thresher" / "demo-bench"
    (folder / "jobs").mkdir(parents=True)
    job = Path(shutil.copy(finished_job, folder / "jobs" / "0417.thresher"))
    change(job, "INSERT OR REPLACE INTO job VALUES ('number', '0417')")
    change(job, "INSERT OR REPLACE INTO job VALUES ('customer', 'Mats Holm')")
    return folder


@pytest.fixture
def do(capsys: pytest.CaptureFixture[str]) -> Do:
    """Carry out a command and return its exit code and everything that it printed."""

    def carry_out(*words: object) -> tuple[int, str]:
        code = main([str(word) for word in words])
        printed = capsys.readouterr()
        return code, printed.out + printed.err

    return carry_out


def test_a_report_is_written_sealed_and_verified(bench: Path, tmp_path: Path, do: Do) -> None:
    job, out = bench / "jobs" / "0417.thresher", tmp_path / "r.pdf"
    code, said = do("report", job, "--out", out, "--for", "customer", "--paper", "letter", "--mask")
    assert code == 0 and f"Written: {out}" in said and "Seal " in said
    code, said = do("verify", out)
    assert code == 0
    assert "valid" in said and "signed with this shop's key" in said and "compared with the job 0417.thresher" in said
    code, said = do("verify", job, "--json")
    (found,) = json.loads(said)
    assert code == 0 and found["valid"] is True
    data = out.read_bytes()
    out.write_bytes(data[:500] + bytes([data[500] ^ 1]) + data[501:])
    code, said = do("verify", out)
    assert code == 1 and "NOT VALID" in said and "changed: " in said
    change(job, "UPDATE runs SET title = 'nicer'")
    out.write_bytes(data)
    code, said = do("verify", out)
    assert code == 1 and "run 1 (Test sheet): the run itself was changed" in said
    code, said = do("verify", job)
    assert code == 1 and "NOT VALID" in said


def test_a_report_of_another_shop_is_known_by_its_key(bench: Path, tmp_path: Path, do: Do) -> None:
    out, other = tmp_path / "r.html", tmp_path / "other"
    do("report", bench / "jobs" / "0417.thresher", "--out", out)
    code, said = do("verify", out, "--shop", other)
    assert code == 0 and "a key that is not known here" in said
    key = shop_key(bench / "shop").public
    code, said = do("verify", out, "--shop", other, "--key", key)
    assert code == 0 and "signed by the key given by hand" in said


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        (("--for", "everybody"), "expected customer, shop, supplier, found 'everybody'"),
        (("--paper", "A3"), "expected A4 or Letter, found 'A3'"),
    ],
)
def test_a_report_for_nobody_or_on_no_paper_is_refused(
    bench: Path, tmp_path: Path, do: Do, words: tuple[str, str], reason: str
) -> None:
    code, said = do("report", bench / "jobs" / "0417.thresher", "--out", tmp_path / "r.pdf", *words)
    assert code == 2 and reason in said
    assert not (tmp_path / "r.pdf").exists()


def test_a_report_without_a_seal_is_no_proof(bench: Path, tmp_path: Path, do: Do) -> None:
    job, out = bench / "jobs" / "0417.thresher", tmp_path / "r.html"
    code, said = do("report", job, "--out", out, "--no-seal")
    assert code == 0 and "Seal" not in said
    code, said = do("verify", out)
    assert code == 2 and "a report without a seal" in said
    code, said = do("verify", job)
    assert code == 2 and "no report of this job was sealed yet" in said


def test_an_invoice_has_lines_and_a_total(bench: Path, tmp_path: Path, do: Do) -> None:
    out = tmp_path / "bill.invoice.csv"
    assert do("report", bench / "jobs" / "0417.thresher", "--out", out)[0] == 0
    lines = out.read_text(encoding="utf-8").splitlines()
    assert lines[0] == "what,count,unit,each [€],net [€]"
    assert [line.split(",")[0] for line in lines[-3:]] == ["net", "tax 0 %", "total"]


def test_jobs_are_found_and_a_miss_ends_with_one(bench: Path, do: Do) -> None:
    code, said = do("find", "--demo", "holm", "0417")
    assert code == 0 and "0417" in said
    code, said = do("find", "--demo", "holm", "--json")
    assert [each["customer"] for each in json.loads(said)] == ["Mats Holm"]
    assert do("find", "--demo", "walrus") == (1, "No job on this bench has these words.\n")


def test_the_bench_is_backed_up_restored_and_forgotten(bench: Path, tmp_path: Path, do: Do) -> None:
    out, other = tmp_path / "b.tar.gz", tmp_path / "other"
    code, said = do("backup", "--demo", "--out", out)
    assert code == 0 and "1 job, " in said and "seal key" in said
    code, said = do("restore", out, "--bench", other)
    assert code == 0 and "1 files, 0 were there already" in said
    job = other / "jobs" / "0417.thresher"
    code, said = do("forget", job, "--bench", other)
    assert code == 0 and "removed: customer" in said
    with JobFile(job, read_only=True) as stored:
        assert stored.job()["customer"] == ""
    code, said = do("restore", out, "--bench", other)
    assert code == 2 and "is there with other content" in said
    code, said = do("restore", out, "--bench", other, "--replace")
    assert code == 0 and "Moved aside: 0417.thresher.before-restore-1" in said


def test_old_jobs_are_forgotten_by_date(bench: Path, do: Do) -> None:
    job = bench / "jobs" / "0417.thresher"
    os.utime(job, (1_600_000_000, 1_600_000_000))
    assert do("forget", "--demo", "--before", "2020-09-01")[1] == ""
    assert do("forget", "--demo", "--before", "2020-09-30")[1] == "0417: removed: customer\n"
    code, said = do("forget", "--demo")
    assert code == 2 and "name job files, or --before DATE" in said
    code, said = do("forget", "--demo", "--before", "2020-13-40")
    assert code == 2 and "there is no 2020-13-40" in said
    code, said = do("forget", "--demo", "--before", "last year")
    assert code == 2 and "expected a date such as 2025-01-31" in said


def test_the_history_of_a_machine_that_was_never_here(bench: Path, do: Do) -> None:
    code, said = do("history", bench / "jobs" / "0417.thresher")
    assert (code, said) == (0, "This machine was not here before.\n")
    code, said = do("history", bench / "jobs" / "0417.thresher", "--json")
    assert json.loads(said)["visits"] == []
