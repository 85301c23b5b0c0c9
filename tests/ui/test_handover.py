"""The Hand over station: pages as they will print, what goes in, texts, seal, files, printing, the machine before."""

import shutil
from collections.abc import Iterator
from pathlib import Path

import pypdf
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtPrintSupport import QPrinter
from PyQt6.QtWidgets import QLineEdit
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.heat.conftest import sail_loft  # noqa: F401 (a fixture)
from tests.ui.conftest import OpenWindow
from thresher.app.report_apart import make_report
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.report.history import MachineHistory, PastVisit, Trend
from thresher.report.sections import Reader, Section
from thresher.seal.seal import Seal
from thresher.shop.details import Paper, ShopDetails, read_details
from thresher.ui.find_dialog import FindDialog
from thresher.ui.stations.handover.printing import printer_for
from thresher.ui.stations.handover.station import HandoverStation, make_preview
from thresher.ui.window import MainWindow

_HAND_OVER = 5


@pytest.fixture
def job(tmp_path: Path, sail_loft: Path) -> Path:  # noqa: F811
    folder = tmp_path / "jobs"
    folder.mkdir()
    return Path(shutil.copy(sail_loft, folder / "0428-sail-loft.thresher"))


@pytest.fixture
def window(tmp_path: Path, job: Path, open_window: OpenWindow, qtbot: QtBot) -> Iterator[MainWindow]:
    """A window on the sail loft, at its Hand over station, with the first pages laid out."""
    engine = EngineProcess(tmp_path, "--simulate", "sail-loft", "--speed", "20", job=job)
    opened = open_window(engine)
    opened.show_station(_HAND_OVER)
    settled(qtbot, opened.handover)
    yield opened
    engine.close()


def settled(qtbot: QtBot, station: HandoverStation) -> None:
    qtbot.waitUntil(lambda: station.preview is not None and station.idle, timeout=90_000)


def text_of(station: HandoverStation) -> str:
    document = station.pages.document
    return " ".join(document.getAllText(0).text().split())


def test_the_customers_page_is_shown_as_it_will_print(window: MainWindow) -> None:
    station = window.handover
    assert station.pages.document.pageCount() == 1
    text = text_of(station)
    assert "Your pattern PC is fixed." in text and "Not sealed" in text
    assert station.pages.desk.accessibleDescription() == "1 page"
    row = list(Section).index(Section.PROOF)
    model = station.sections.sections
    assert model.data(model.index(row)) == "Proof, goes in: 24 min, no errors"
    assert "Not sealed yet" in station.seal.accessibleDescription()
    assert station.texts.field.toPlainText() == "No part had to be replaced."
    assert station.cause.text() == "Not recorded yet: the job is open."


def test_sections_are_left_out_by_keyboard_alone(window: MainWindow, qtbot: QtBot) -> None:
    station = window.handover
    station.sections.setFocus()
    station.sections.setCurrentIndex(station.sections.sections.index(0))
    qtbot.keyClick(station.sections, Qt.Key.Key_Space)
    settled(qtbot, station)
    assert "What was wrong" not in text_of(station)
    qtbot.keyClick(station.sections, Qt.Key.Key_Return)
    settled(qtbot, station)
    assert "What was wrong" in text_of(station)


def test_a_supplier_gets_serials_and_no_price(window: MainWindow, qtbot: QtBot) -> None:
    station = window.handover
    station.choose_reader(Reader.SUPPLIER)
    settled(qtbot, station)
    document = station.pages.document
    text = " ".join(document.getAllText(page).text() for page in range(document.pageCount()))
    assert document.pageCount() > 3
    assert "Proof for a claim" in text and "QB60-118207" in text
    assert "€" not in text
    station.serials.setChecked(False)
    settled(qtbot, station)
    text = " ".join(document.getAllText(page).text() for page in range(document.pageCount()))
    assert "QB60-118207" not in text


def test_a_text_is_changed_kept_with_the_job_and_reset(window: MainWindow, job: Path, qtbot: QtBot) -> None:
    station = window.handover
    texts = station.texts
    texts.which.setCurrentIndex(3)
    texts.which.activated.emit(3)
    texts.field.setPlainText("Keep the sailcloth away from it.")
    qtbot.waitUntil(lambda: texts.reset.isEnabled() and not texts.waiting, timeout=10_000)
    settled(qtbot, station)
    assert "Keep the sailcloth away from it." in text_of(station)

    def kept() -> str:
        with JobFile(job, read_only=True) as stored:
            return stored.job().get("text_watch", "")

    qtbot.waitUntil(lambda: kept() == "Keep the sailcloth away from it.", timeout=10_000)
    texts.reset.click()
    settled(qtbot, station)
    assert "Keep the sailcloth" not in text_of(station)
    qtbot.waitUntil(lambda: kept() == "", timeout=10_000)


def test_saving_seals_the_report_and_the_job_knows_it(
    window: MainWindow, job: Path, tmp_path: Path, qtbot: QtBot
) -> None:
    station, out = window.handover, tmp_path / "out.pdf"
    with qtbot.waitSignal(station.done, timeout=90_000) as done:
        station.write(out)
    code = str(done.args[0]).rpartition("seal ")[2]
    assert out.read_bytes().startswith(b"%PDF")

    def sealed() -> bool:
        with JobFile(job, read_only=True) as stored:
            return [each.code for each in stored.seals(Seal)] == [code]

    qtbot.waitUntil(sealed, timeout=10_000)
    qtbot.waitUntil(lambda: station.seal.seal.code == code, timeout=90_000)
    assert station.seal.accessibleDescription().startswith("Sealed and unchanged")
    assert not window.state.trouble or window.state.trouble_is_news


def test_what_cannot_be_written_is_said_and_leaves_nothing(window: MainWindow, tmp_path: Path, qtbot: QtBot) -> None:
    station = window.handover
    with qtbot.waitSignal(station.said, timeout=90_000) as said:
        station.write(tmp_path / "nowhere" / "out.pdf")
    assert "Choose a folder that can be written" in str(said.args[0])
    with qtbot.waitSignal(station.said, timeout=90_000) as said:
        station.write(Path("/dev/full"))
    assert said.args[0]
    assert not (tmp_path / "nowhere").exists()


def test_data_for_other_programs_is_saved(window: MainWindow, tmp_path: Path, qtbot: QtBot) -> None:
    station = window.handover
    for name in ("bill.invoice.csv", "readings.jsonl"):
        with qtbot.waitSignal(station.done, timeout=90_000):
            station.write(tmp_path / name)
    lines = (tmp_path / "bill.invoice.csv").read_text(encoding="utf-8").splitlines()
    assert lines[0].startswith("what,count,unit") and lines[-1] == "total,,,,39.60"
    assert '"run": 1' in (tmp_path / "readings.jsonl").read_text(encoding="utf-8").splitlines()[0]


def test_all_pages_are_printed_on_the_papers_size(window: MainWindow, tmp_path: Path, qtbot: QtBot) -> None:
    station = window.handover
    found = make_preview(station.request("print.pdf", preview=False))
    printer, out = printer_for(Paper.LETTER), tmp_path / "printed.pdf"
    printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
    printer.setOutputFileName(str(out))
    with qtbot.waitSignal(station.done, timeout=30_000, check_params_cb=lambda text: text != "Printing…") as done:
        station.print_sealed(found, printer)
    assert done.args == ["Printed: 1 page"]
    (page,) = pypdf.PdfReader(out).pages
    assert (round(float(page.mediabox.width)), round(float(page.mediabox.height))) == (612, 792)


def test_the_shops_details_are_asked_checked_and_printed(window: MainWindow, tmp_path: Path, qtbot: QtBot) -> None:
    station = window.handover
    dialog = station.ask_details()
    dialog.findChild(QLineEdit, "shop_name").setText("Harbour Lane Repair Bench")
    dialog.findChild(QLineEdit, "shop_tax").setText("many")
    dialog.keep()
    assert "expected a number such as 19" in dialog.trouble.text()
    dialog.tax.setText("119")
    dialog.keep()
    assert "expected 0 to 100 %" in dialog.trouble.text()
    dialog.tax.setText("7,7")
    dialog.keep()
    qtbot.waitUntil(lambda: "Harbour Lane Repair Bench" in text_of(station), timeout=90_000)
    assert read_details(tmp_path / "shop") == ShopDetails(name="Harbour Lane Repair Bench", tax_percent=7.7)


def test_a_job_that_cannot_be_read_says_so_on_the_desk(window: MainWindow, job: Path, qtbot: QtBot) -> None:
    station = window.handover
    (window_shop := Path(station.shop)).mkdir(exist_ok=True)
    (window_shop / "shop.json").write_text("{", encoding="utf-8")
    station.refresh()
    qtbot.waitUntil(lambda: station.idle and station.preview is None, timeout=90_000)
    assert "shop.json" in station.pages.desk.message


def test_the_machine_before_is_read_and_asked_by_keyboard(window: MainWindow, qtbot: QtBot) -> None:
    view = window.handover.history
    qtbot.waitUntil(lambda: not view.message, timeout=60_000)
    assert view.before() == ()
    visits = (
        PastVisit(
            1_760_000_000.0, "0391", "0391-loft", "/bench/0391-loft.thresher", "hot or loud", done="Fan replaced"
        ),
        PastVisit(1_700_000_000.0, "0200", "0200-loft", "", "slow", trouble="its job file is not on this bench"),
    )
    trends = (
        Trend("Hottest CPU under matrix", "°C", ((1_700_000_000.0, 71.0), (1_760_000_000.0, 78.5))),
        Trend("Slipway: reallocated sectors", "", ((1_700_000_000.0, 0.0), (1_760_000_000.0, 3.0))),
    )
    view.show_history(MachineHistory(visits, trends, ("drive X, serial S1, was in another machine (job 7)",)), "/other")
    told = view.accessibleDescription()
    assert "9 Oct 2025: Fan replaced" in told and "78.5 °C" in told and "was in another machine" in told
    view.setFocus()
    qtbot.keyClick(view, Qt.Key.Key_Right)
    assert view.trend == 1
    with qtbot.waitSignal(view.visit_wanted, timeout=5_000) as wanted:
        qtbot.keyClick(view, Qt.Key.Key_Return)
    assert wanted.args == ["/bench/0391-loft.thresher"]
    qtbot.keyClick(view, Qt.Key.Key_Down)
    with qtbot.assertNotEmitted(view.visit_wanted):
        qtbot.keyClick(view, Qt.Key.Key_Return)
    view.grab()
    assert any("0391" in spot.text for spot in view.spots)


def test_a_stored_job_is_handed_over_without_an_engine(tmp_path: Path, job: Path, window: MainWindow) -> None:
    station = window.handover
    request = station.request(str(tmp_path / "again.html"), preview=False)
    assert request.expected == station.preview.made.digest if station.preview is not None else False
    made = make_report(request)
    assert made.seal is not None


def test_jobs_are_found_while_typing(
    window: MainWindow, job: Path, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    looked_at: list[Path] = []
    monkeypatch.setattr(window.files, "show_stored", looked_at.append)
    writer = JournalWriter(job.parent / "0007-museum.thresher")
    writer.set_job({"number": "0007", "machine": "Museum, ticket desk", "customer": "Bo Lind", "words": "beeps"})
    writer.close()
    dialog = window.find_job()
    assert isinstance(dialog, FindDialog)
    qtbot.waitUntil(lambda: len(dialog.index.jobs) == 2, timeout=30_000)
    qtbot.keyClicks(dialog.field, "LIND beep")
    assert [each.number for each in dialog.model.jobs] == ["0007"]
    assert "1 of 2 jobs" in dialog.count.text()
    dialog.field.setText("walrus")
    assert dialog.count.text() == "No job on this bench has these words."
    dialog.field.setText("QB60-118207")
    assert [each.number for each in dialog.model.jobs] == ["0428"]
    qtbot.keyClick(dialog.field, Qt.Key.Key_Return)
    assert looked_at == [job]
