"""Matching the columns of a log from elsewhere by eye: what each is taken for, beside its first values."""

from pathlib import Path

from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHeaderView,
    QLabel,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from thresher.importers.csv_log import LEFT_OUT, ColumnMatch, ForeignLog, parse_log
from thresher.model.channels import UNITS, Quantity
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.regular_file import read_regular
from thresher.ui.chooser import Chooser

_LOOK_AT = 64 << 10
_SHOWN = 3
_LEAVE_OUT = "leave out"


def look_into(path: Path) -> ForeignLog:
    """Read the beginning of a log, enough to match its columns. Raises InputError."""
    try:
        text = read_regular(path, _LOOK_AT).decode("utf-8-sig", "replace")
    except OSError as error:
        raise InputError(str(path), [InputFault("file", error.strerror or str(error))]) from error
    whole = text.rpartition("\n")[0] if len(text) >= _LOOK_AT // 2 else text
    return parse_log(whole, path.name)


class ImportDialog(QDialog):
    """A row a column; `changes` says what was decided, in the words of `thresher import --column`."""

    def __init__(self, log: ForeignLog, columns: tuple[ColumnMatch, ...], parent: QWidget | None = None) -> None:
        """Begin with what was guessed or remembered."""
        super().__init__(parent)
        self.setObjectName("import_dialog")
        self.setWindowTitle(f"Take in {log.name}")
        self.resize(760, 460)
        self._columns = columns
        self.table = QTableWidget(len(columns), 4, self)
        self.table.setObjectName("import_columns")
        self.table.setHorizontalHeaderLabels(["Column", "Holds", "Part", "First values"])
        self.table.setAccessibleName("Columns of the log")
        header = self.table.horizontalHeader()
        if header is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            header.setStretchLastSection(True)
        for row, column in enumerate(columns):
            self._fill(row, column, log)
        words = "What is each column? Columns left at “leave out” are skipped. Times come from "
        words += " and ".join(f"“{log.titles[place]}”" for place in log.time_columns)
        note = QLabel(f"{words}. The choice is remembered for logs with the same titles.", self)
        note.setWordWrap(True)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel, self)
        take = buttons.addButton("Import", QDialogButtonBox.ButtonRole.AcceptRole)
        if take is not None:
            take.setObjectName("take_in")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout = QVBoxLayout(self)
        layout.addWidget(note)
        layout.addWidget(self.table, 1)
        layout.addWidget(buttons)

    def _fill(self, row: int, column: ColumnMatch, log: ForeignLog) -> None:
        place = log.titles.index(column.title)
        values = ", ".join(cells[place] for cells in log.rows[:_SHOWN] if place < len(cells))
        self.table.setItem(row, 0, QTableWidgetItem(column.title))
        self.table.setItem(row, 3, QTableWidgetItem(values))
        quantity, part = Chooser(self.table), Chooser(self.table)
        quantity.addItem(_LEAVE_OUT, LEFT_OUT)
        for each in Quantity:
            quantity.addItem(f"{each.value}, {UNITS[each]}", each.value)
        quantity.setCurrentIndex(max(0, quantity.findData(column.quantity)))
        quantity.setAccessibleName(f"{column.title}: holds")
        for kind in PartKind:
            part.addItem(kind.value, kind.value)
        part.setCurrentIndex(part.findData(column.part.value))
        part.setAccessibleName(f"{column.title}: part")
        self.table.setCellWidget(row, 1, quantity)
        self.table.setCellWidget(row, 2, part)

    def changes(self) -> list[str]:
        """Return what each column is to be taken for."""
        reported = []
        for row, column in enumerate(self._columns):
            quantity, part = self.table.cellWidget(row, 1), self.table.cellWidget(row, 2)
            assert isinstance(quantity, Chooser)
            assert isinstance(part, Chooser)
            taken = str(quantity.currentData())
            reported.append(f"{column.title}={taken},{part.currentData()}" if taken else f"{column.title}=")
        return reported
