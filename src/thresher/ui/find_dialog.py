"""Finding a job while typing: number, customer, machine, their words, a part, a serial number, a fault code."""

from datetime import datetime
from pathlib import Path

from PyQt6.QtCore import (
    QAbstractListModel,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    QPointF,
    QRectF,
    QSize,
    Qt,
    pyqtSignal,
)
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QDialog,
    QLabel,
    QLineEdit,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from thresher.model.job import JOB_FILE_ENDING
from thresher.shop.job_index import MOST_SHOWN, IndexedJob, JobIndex, find_jobs, refreshed_index, stored_index
from thresher.ui.background import in_background
from thresher.ui.form import form_style
from thresher.ui.look import Look, draw_text
from thresher.ui.paper_list import PaperList

Index = QModelIndex | QPersistentModelIndex
JOB_ROLE = Qt.ItemDataRole.UserRole
_ROW = 46


class _JobsModel(QAbstractListModel):
    """The jobs that were found."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.jobs: tuple[IndexedJob, ...] = ()

    def show_jobs(self, jobs: tuple[IndexedJob, ...]) -> None:
        """Show others."""
        self.beginResetModel()
        self.jobs = jobs
        self.endResetModel()

    def rowCount(self, parent: Index | None = None) -> int:
        """Return how many there are."""
        return 0 if parent is not None and parent.isValid() else len(self.jobs)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a job, or its text."""
        if not index.isValid() or index.row() >= len(self.jobs):
            return None
        job = self.jobs[index.row()]
        if role == JOB_ROLE:
            return job
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            return ", ".join(word for word in (job.number, *_lines(job)) if word)
        return None


def _lines(job: IndexedJob) -> tuple[str, str]:
    """Return what is said of a job in two lines: machine and customer, then when and why it came."""
    who = " · ".join(word for word in (job.machine or job.stem, job.customer) if word)
    when = f"{datetime.fromtimestamp(job.wall).astimezone():%-d %b %Y}"
    return who, " · ".join(word for word in (when, job.trouble or job.about) if word)


class _JobDelegate(QStyledItemDelegate):
    def __init__(self, look: Look, parent: QWidget) -> None:
        super().__init__(parent)
        self._look = look

    def sizeHint(self, _option: QStyleOptionViewItem, _index: Index) -> QSize:
        """All rows are equally high."""
        return QSize(200, _ROW)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: Index) -> None:
        """Draw one job: its number, and two lines."""
        job = index.data(JOB_ROLE)
        if painter is None or not isinstance(job, IndexedJob):
            return
        scheme, area = self._look.scheme, QRectF(option.rect).adjusted(2, 2, -4, -2)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.fillRect(area, QColor(scheme.field if chosen else scheme.panel))
        painter.setPen(QPen(QColor(scheme.processor if chosen else scheme.rule), 2 if chosen else 1))
        painter.drawRect(area)
        first, second = _lines(job)
        draw_text(painter, QPointF(area.x() + 10, area.y() + 26), job.number or "–", scheme.ink, 14, True, width=62)
        width = area.width() - 90
        draw_text(painter, QPointF(area.x() + 80, area.y() + 17), first, scheme.ink, 12.5, True, width=width)
        colour = scheme.fault if job.trouble else scheme.soft
        draw_text(painter, QPointF(area.x() + 80, area.y() + 34), second, colour, 11.5, width=width)
        painter.restore()


class FindDialog(QDialog):
    """A line to type in, and the jobs with all of its words below. `wanted` brings the path of the one chosen."""

    wanted = pyqtSignal(str)

    def __init__(self, jobs: Path, shop: Path, look: Look, parent: QWidget | None = None) -> None:
        """`jobs` is the folder of the bench's job files, `shop` where their index is kept."""
        super().__init__(parent)
        self._jobs, self._shop = jobs, shop
        self.index = JobIndex()
        self.setObjectName("find_dialog")
        self.setWindowTitle("Find job")
        self.resize(640, 480)
        scheme = look.scheme
        self.setStyleSheet(form_style(scheme) + f"QDialog {{ background: {scheme.panel}; }}")
        self.field = QLineEdit(self)
        self.field.setObjectName("find_words")
        self.field.setAccessibleName("Words to find")
        self.field.setPlaceholderText("number, customer, machine, their words, part, serial number, fault code")
        self.field.textChanged.connect(self._search)
        self.list = PaperList(look, "found_jobs", "Jobs found", self)
        self.model = _JobsModel(self)
        self.list.setModel(self.model)
        self.list.setItemDelegate(_JobDelegate(look, self.list))
        self.list.activated.connect(lambda _index: self._open())
        self.list.doubleClicked.connect(lambda _index: self._open())
        self.count = QLabel("Reading the jobs of this bench…", self)
        self.count.setObjectName("found_count")
        column = QVBoxLayout(self)
        column.addWidget(self.field)
        column.addWidget(self.list, 1)
        column.addWidget(self.count)
        in_background(self, lambda: stored_index(shop), self._take_first, lambda error: self.count.setText(str(error)))

    def _take_first(self, index: JobIndex) -> None:
        """Search what is known already, and read what has changed since."""
        self._take(index)
        self.count.setText("Reading the jobs of this bench…")
        jobs, shop = self._jobs, self._shop
        in_background(
            self, lambda: refreshed_index(jobs, shop), self._take, lambda error: self.count.setText(str(error))
        )

    def _take(self, index: JobIndex) -> None:
        self.index = index
        self._search()

    def _search(self) -> None:
        found = find_jobs(self.index.jobs, self.field.text())
        self.model.show_jobs(found[:MOST_SHOWN])
        if found:
            self.list.setCurrentIndex(self.model.index(0))
        more = f", the first {MOST_SHOWN} are shown: add a word" if len(found) > MOST_SHOWN else ""
        words = f"{len(found):,} of {len(self.index.jobs):,} jobs{more}. Enter looks at one."
        self.count.setText(words if found else "No job on this bench has these words.")

    def _open(self) -> None:
        job = self.list.currentIndex().data(JOB_ROLE)
        if isinstance(job, IndexedJob):
            self.wanted.emit(str(self._jobs / f"{job.stem}{JOB_FILE_ENDING}"))
            self.accept()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and Down move in the list while the line has the focus; Enter opens."""
        if event is None:
            return
        match event.key():
            case Qt.Key.Key_Down | Qt.Key.Key_Up | Qt.Key.Key_PageDown | Qt.Key.Key_PageUp:
                self.list.keyPressEvent(event)
            case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                self._open()
            case _:
                super().keyPressEvent(event)
