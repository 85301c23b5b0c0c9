"""Text from outside stays text: on screen, in the terminal, in tables."""

import os
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication, QLabel, QMessageBox, QToolTip
from pytestqt.qtbot import QtBot

from thresher.cli.output import printable, write_text
from thresher.importers.csv_log import parse_log
from thresher.model.channels import Channel, Quantity
from thresher.model.parts import PartKind
from thresher.report.table import ticks_csv
from thresher.ui.plain_text import PlainTextStyle


@pytest.fixture
def plain(qapp: QApplication) -> None:
    qapp.setStyle(PlainTextStyle("Fusion"))


@pytest.mark.usefixtures("plain")
def test_a_picture_in_a_symptom_is_shown_as_letters_and_read_from_nowhere(qtbot: QtBot, tmp_path: Path) -> None:
    pipe = tmp_path / "waits-for-ever"
    os.mkfifo(pipe)
    text = f'<img src="{pipe}"> <b>hot</b>'
    label = QLabel(text)
    qtbot.addWidget(label)
    label.show()
    assert label.textFormat() is Qt.TextFormat.PlainText
    box = QMessageBox()
    qtbot.addWidget(box)
    box.setText(text)
    box.show()
    assert all(each.textFormat() is Qt.TextFormat.PlainText for each in box.findChildren(QLabel) if each.text() == text)
    QToolTip.showText(QPoint(5, 5), text, label)
    tips = [each for each in QApplication.topLevelWidgets() if isinstance(each, QLabel) and each.text() == text]
    assert all(each.textFormat() is Qt.TextFormat.PlainText for each in tips)
    QToolTip.hideText()


def test_escape_sequences_never_reach_the_terminal() -> None:
    text = "drive \x1b]0;owned\x07 \x9b31m\x1b[2J \x00 ok\tyes\nnext"
    shown = printable(text)
    assert not any((ord(letter) < 32 and letter not in "\n\t") or 127 <= ord(letter) < 160 for letter in shown)
    assert "\\x1b]0;owned" in shown
    assert "ok\tyes\nnext" in shown


def test_cells_that_would_be_formulas_are_guarded_and_read_back() -> None:
    names = ["=HYPERLINK(1)", "+12V", "-12V", "@sum", "Core 0"]
    channels = tuple(
        Channel(f"k/{number}", name, Quantity.VOLTAGE, PartKind.POWER, "/x") for number, name in enumerate(names)
    )
    titles = ticks_csv(channels, []).strip().split(",")[1:]
    assert [title[0] for title in titles] == ["'", "'", "'", "'", "C"]
    log = parse_log("time," + ",".join(titles) + "\n1,1,2,3,4,5\n2,1,2,3,4,5\n", "x.csv")
    assert log.titles[1:] == tuple(f"{name} [V]" for name in names)


def test_a_report_is_there_whole_or_not_at_all(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    out = tmp_path / "r.html"
    write_text(out, "first")

    def full(_descriptor: int) -> None:
        raise OSError(28, os.strerror(28))

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(Exception, match="No space left"):
        write_text(out, "second, much longer")
    assert out.read_text() == "first"
    assert list(tmp_path.iterdir()) == [out]
