"""Sealed reports as files: every changed byte is found, and what was changed is named where that can be."""

import io
import random
import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pypdf
import pytest

from tests.conftest import Heard
from tests.seal.conftest import MakeReport, change
from thresher.app.handing_over import compose, keep_seal, write_handover
from thresher.app.stored_verdict import job_verdict
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.journal.lock import acquire
from thresher.model.errors import EnvironmentFault, InputError
from thresher.report.sealed_file import check_report, signed_file
from thresher.report.sealed_text import sentences_of
from thresher.report.sections import Choice, Reader, Section, usual_choice
from thresher.seal.keys import keyring_of, shop_key
from thresher.seal.seal import Seal
from thresher.seal.verify import Checked, Signer
from thresher.shop.details import Paper, ShopDetails, keep_details
from thresher.simulator.scenario import Scenario


def check(path: Path, shop: Path, job: Path | None = None) -> Checked:
    return check_report(path, keyring_of(shop), lambda _: JobFile(job, read_only=True) if job is not None else None)


def pages_of(path: Path) -> list[str]:
    return [" ".join(page.extract_text().split()) for page in pypdf.PdfReader(io.BytesIO(path.read_bytes())).pages]


@pytest.mark.parametrize("name", ["report.html", "report.pdf"])
def test_a_sealed_report_is_valid_with_and_without_its_job(
    report: MakeReport, shop: Path, job: Path, name: str
) -> None:
    out = report(name)
    found = check(out, shop, job)
    assert found.valid and found.signer is Signer.THIS_SHOP
    assert f"compared with the job {job.name}" in found.notes
    alone = check(out, shop)
    assert alone.valid
    assert any("only the report itself was checked" in note for note in alone.notes)


def test_a_changed_sentence_is_named(report: MakeReport, shop: Path) -> None:
    out = report()
    text = out.read_text(encoding="utf-8")
    name, sentence = next(each for each in sentences_of(text) if each[0].startswith("what was wrong"))
    word = max(sentence.split(), key=len)
    out.write_text(text.replace(word, word[::-1]), encoding="utf-8")
    assert f"“{name}”: its text was changed" in check(out, shop).faults


def test_a_sentence_that_is_gone_or_new_is_named(report: MakeReport, shop: Path) -> None:
    out = report()
    text = out.read_text(encoding="utf-8")
    out.write_text(text.replace('data-sealed="proof"', 'data-sealed="promise"'), encoding="utf-8")
    faults = check(out, shop).faults
    assert "“proof”: it is missing from the report" in faults
    assert "“promise”: it was added after the report was sealed" in faults


def test_a_change_of_the_layout_is_found_too(report: MakeReport, shop: Path) -> None:
    out = report()
    out.write_text(out.read_text(encoding="utf-8").replace("font-size: 25px", "font-size: 26px"), encoding="utf-8")
    assert check(out, shop).faults == ("the file was changed, outside of the sealed sentences",)


@pytest.mark.parametrize("name", ["report.html", "report.pdf"])
def test_no_flipped_bit_of_a_report_goes_unnoticed(report: MakeReport, shop: Path, name: str) -> None:
    out, chance = report(name), random.Random(5)
    data = out.read_bytes()
    for _ in range(120):
        place, bit = chance.randrange(len(data)), chance.randrange(8)
        out.write_bytes(data[:place] + bytes([data[place] ^ 1 << bit]) + data[place + 1 :])
        try:
            assert not check(out, shop).valid, (place, bit)
        except InputError as error:
            assert "seal" in str(error)
    out.write_bytes(data)
    assert check(out, shop).valid


def test_a_pdf_that_no_parser_understands_is_damaged_and_not_an_error(report: MakeReport, shop: Path) -> None:
    out = report("report.pdf")
    out.write_bytes(out.read_bytes().replace(b"/FlateDecode", b"/FlateDdcode"))
    faults = check(out, shop).faults
    assert faults[0] == "the PDF is damaged"


def test_a_page_of_a_pdf_that_was_changed_is_named(report: MakeReport, shop: Path) -> None:
    out = report("report.pdf", usual_choice(Reader.SHOP))
    data = out.read_bytes()
    writer = pypdf.PdfWriter(clone_from=io.BytesIO(data))
    page = writer.pages[1]
    contents = page.get_contents()
    assert contents is not None
    contents.set_data(contents.get_data().replace(b" Tj", b" Tj ", 1) + b"\n")
    page.replace_contents(contents)
    made = io.BytesIO()
    writer.write(made)
    line = data[data.rindex(b"\n%thresher-seal") :]
    out.write_bytes(made.getvalue().rstrip(b"\n") + line)
    assert check(out, shop).faults == ("page 2 was changed",)


def test_a_report_without_a_seal_or_cut_short_is_refused_in_words(
    report: MakeReport, shop: Path, tmp_path: Path
) -> None:
    out = report()
    data = out.read_bytes()
    out.write_bytes(data[:-200])
    with pytest.raises(InputError, match=r"which signs the file, was changed|its end is missing"):
        check(out, shop)
    plain = tmp_path / "plain.html"
    plain.write_text("<p>hello</p>", encoding="utf-8")
    with pytest.raises(InputError, match="it has none"):
        check(plain, shop)
    with pytest.raises(InputError, match="No such file"):
        check(tmp_path / "nowhere.pdf", shop)


def test_a_changed_job_is_found_from_the_paper(report: MakeReport, shop: Path, job: Path) -> None:
    out = report("report.pdf")
    change(job, "UPDATE runs SET ending = 'stopped'")
    assert check(out, shop, job).faults == ("run 1 (Test sheet): the run itself was changed",)


@pytest.mark.parametrize("name", ["report.html", "report.pdf"])
def test_a_genuine_seal_in_a_report_that_somebody_else_signed_is_no_proof(
    report: MakeReport, shop: Path, tmp_path: Path, name: str
) -> None:
    out = report(name)
    data = out.read_bytes()
    content = data[: data.rindex(b"thresher-seal 1 ") - (2 if name.endswith(".pdf") else 6)]
    with_seal = JobFile(tmp_path / "0417-lighthouse.thresher", read_only=True)
    with with_seal as stored:
        seal = stored.seals(Seal)[-1]
    forged = signed_file(content.replace(b"What we did", b"What we hid"), seal, shop_key(tmp_path / "elsewhere"))
    out.write_bytes(forged)
    assert "the file was signed with another key than the seal inside" in check(out, shop).faults


def test_a_seal_of_either_shop_of_this_computer_is_of_this_shop(report: MakeReport, shop: Path, tmp_path: Path) -> None:
    shop_key(tmp_path / "second")
    found = check_report(report(), keyring_of(tmp_path / "second", shop), lambda _: None)
    assert found.signer is Signer.THIS_SHOP


def test_the_seal_of_one_report_does_not_fit_another(report: MakeReport, shop: Path) -> None:
    first, second = report("one.html"), report("two.html", usual_choice(Reader.SUPPLIER))
    cut = b"\n<!-- thresher-seal"
    one, two = first.read_bytes(), second.read_bytes()
    first.write_bytes(one[: one.rindex(cut)] + two[two.rindex(cut) :])
    assert any("the file was signed with" in fault for fault in check(first, shop).faults)


def test_every_page_carries_seal_number_and_that_the_machine_is_simulated(
    report: MakeReport, job: Path, shop: Path
) -> None:
    change(job, "INSERT OR REPLACE INTO job VALUES ('number', '0417')")
    out = report("report.pdf", usual_choice(Reader.SHOP))
    pages = pages_of(out)
    code = check(out, shop).code
    assert len(pages) > 3
    for number, text in enumerate(pages, 1):
        assert "SIMULATED MACHINE: no real machine was tested" in text
        assert f"Seal {code} job 0417" in text
        assert f"{number} / {len(pages)}" in text


def test_a_report_is_set_in_another_font_where_ours_are_missing(
    report: MakeReport, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("thresher.report.pdf.is_file", lambda _path: False)
    assert "What was wrong" in pages_of(report("report.pdf"))[0]


def test_the_customers_report_is_one_page_and_names_the_shop(report: MakeReport, shop: Path) -> None:
    keep_details(shop, ShopDetails(name="Harbour Lane Repair Bench", address="Harbour Lane 4", paper=Paper.LETTER))
    out = report("report.pdf", usual_choice(Reader.CUSTOMER, Paper.LETTER))
    reader = pypdf.PdfReader(io.BytesIO(out.read_bytes()))
    (page,) = reader.pages
    assert (round(float(page.mediabox.width)), round(float(page.mediabox.height))) == (612, 792)  # 8.5 by 11 in
    text = page.extract_text()
    assert "Harbour Lane Repair Bench" in text
    assert "What was wrong" in text and "What to watch" in text


def test_serials_are_masked_where_that_is_wanted(job: Path, shop: Path) -> None:
    with JobFile(job, read_only=True) as stored:
        machine = stored.machine()
        assert machine is not None
        serial = next(fact.value for part in machine.parts for fact in part.facts if fact.name == "serial")
        shown = compose(stored, usual_choice(Reader.SUPPLIER), shop, ShopDetails()).html
        masked = compose(stored, replace(usual_choice(Reader.SUPPLIER), serials=False), shop, ShopDetails()).html
    assert serial in shown
    assert serial not in masked and "masked" in masked


def test_each_section_goes_in_by_itself(job: Path, shop: Path) -> None:
    with JobFile(job, read_only=True) as stored:
        verdict = job_verdict(stored)
        for section in Section:
            html = compose(stored, Choice(sections=(section,)), shop, ShopDetails(), verdict).html
            for other in (Section.WRONG, Section.DONE, Section.PROOF, Section.WATCH):
                assert (f"<h2>{other.value}</h2>" in html) is (section is other)


def test_a_persons_text_stands_instead_of_the_proposed_one(job: Path, shop: Path) -> None:
    change(job, "INSERT OR REPLACE INTO job VALUES ('text_watch', 'Keep the cat off it.')")
    change(job, "INSERT OR REPLACE INTO job VALUES ('text_summary', '<b>All well</b>')")
    with JobFile(job, read_only=True) as stored:
        sentences = dict(sentences_of(compose(stored, usual_choice(Reader.CUSTOMER), shop, ShopDetails()).html))
    assert sentences["what to watch, 1"] == "Keep the cat off it."
    assert sentences["summary"] == "<b>All well</b>"


def test_long_words_with_markup_are_printed_as_text(job: Path, shop: Path, tmp_path: Path) -> None:
    words = "<script>alert(1)</script> & \u202e crackles ☃ " + "x" * 10_000
    change(job, "INSERT OR REPLACE INTO job VALUES ('words', ?)", words)
    change(job, "INSERT OR REPLACE INTO job VALUES ('number', '\"; } body { display: none }')")
    out = tmp_path / "words.pdf"
    with JobFile(job, read_only=True) as stored:
        html = compose(stored, usual_choice(Reader.SHOP), shop, ShopDetails()).html
        write_handover(stored, out, usual_choice(Reader.SHOP), shop)
    assert "<script>" not in html
    assert "display: none }" not in html.partition("<style>")[2].partition("</style>")[0]
    assert "<script>alert(1)</script>" in " ".join(pages_of(out)[:2])


def test_a_job_without_a_run_still_gives_a_report(
    make_engine: Callable[..., tuple[Engine, Heard]], ferry: Scenario, tmp_path: Path, shop: Path
) -> None:
    engine, _ = make_engine(ferry)
    engine.close()
    out = tmp_path / "empty.pdf"
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        written = write_handover(stored, out, usual_choice(Reader.CUSTOMER), shop)
    assert written is not None
    assert "has not been tested yet" in pages_of(out)[0]


def test_a_job_changed_since_the_preview_is_not_handed_over(job: Path, shop: Path, tmp_path: Path) -> None:
    choice, out = usual_choice(Reader.CUSTOMER), tmp_path / "late.html"
    with JobFile(job, read_only=True) as stored:
        seen = compose(stored, choice, shop, ShopDetails()).digest
        write_handover(stored, out, choice, shop, seen)
    change(job, "INSERT OR REPLACE INTO job VALUES ('text_done', 'Swapped the coffee.')")
    out.unlink()
    with JobFile(job, read_only=True) as stored, pytest.raises(InputError, match="has changed since the preview"):
        write_handover(stored, out, choice, shop, seen)
    assert not out.exists()


def test_a_full_disk_leaves_no_half_file_and_says_so(job: Path, shop: Path, tmp_path: Path) -> None:
    before = sorted(tmp_path.iterdir())
    with JobFile(job, read_only=True) as stored:
        with pytest.raises(EnvironmentFault, match="No space left on device"):
            write_handover(stored, Path("/dev/full"), usual_choice(Reader.CUSTOMER), shop)
        with pytest.raises(EnvironmentFault, match="Choose a folder that can be written"):
            write_handover(stored, tmp_path / "nowhere" / "report.pdf", usual_choice(Reader.CUSTOMER), shop)
    new = [each for each in sorted(tmp_path.iterdir()) if each not in before]
    assert [each for each in new if not each.name.endswith(("-wal", "-shm"))] == [shop]


def test_a_job_that_a_bench_has_open_is_sealed_on_paper_and_that_is_said(job: Path, shop: Path, tmp_path: Path) -> None:
    out = tmp_path / "open.html"
    lock = acquire(job, "the job file")
    try:
        with JobFile(job, read_only=True) as stored:
            written = write_handover(stored, out, usual_choice(Reader.CUSTOMER), shop)
        assert written is not None
        assert "the job file" in keep_seal(job, written)
    finally:
        lock.close()
    assert check(out, shop, job).valid


def test_a_damaged_shop_file_is_named(job: Path, shop: Path, tmp_path: Path) -> None:
    shop.mkdir()
    (shop / "shop.json").write_text('{"format": "thresher-shop/1", "tax_percent": 300}')
    with JobFile(job, read_only=True) as stored, pytest.raises(InputError, match="expected 0 to 100 %, found 300"):
        write_handover(stored, tmp_path / "out.html", usual_choice(Reader.CUSTOMER), shop)


def test_the_sail_lofts_page_says_what_counts(sail_loft: Path, tmp_path: Path, shop: Path) -> None:
    job = Path(shutil.copy(sail_loft, tmp_path / "0428-sail-loft.thresher"))
    with JobFile(job, read_only=True) as stored:
        html = compose(stored, usual_choice(Reader.CUSTOMER), shop, ShopDetails(tax_percent=20.0)).html
    said = dict(sentences_of(html))
    assert said["headline"] == "Your pattern PC is fixed."
    assert said["summary"] == "No part had to be replaced."
    assert said["what was wrong, 1"].startswith("Dust blocked the cooler.")
    assert said["what we did, 1"] == "Dust cleaned out."
    assert said["proof"].startswith("24 min of full load after the repair (matrix), every result checked: no errors.")
    assert "before 94 °C" in html and "after 68 °C" in html
    # two acts of 20 min at 60 an hour, 0.33 h each; 20 % tax on 39.60
    assert said["price, net"].endswith("€ 39.60")
    assert said["price, tax"] == "tax 20 % € 7.92"
    assert said["price, total"] == "Total € 47.52"
