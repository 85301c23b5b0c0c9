"""Asking the actual cause: nothing, or which of the machine's parts, and how it was faulty where known."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QLabel,
    QLineEdit,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from thresher.model.decisions import Culprit
from thresher.model.parts import PartKind
from thresher.protocol.commands import CloseJob
from thresher.ui.form import form_style
from thresher.ui.state import BenchState
from thresher.ui.theme import Scheme

_ROLE = Qt.ItemDataRole.UserRole


class ActualCauseDialog(QDialog):
    """The machine's own parts, each opening into its ways of being faulty."""

    def __init__(self, state: BenchState, scheme: Scheme, parent: QWidget | None = None) -> None:
        """Offer what is in the book of trials."""
        super().__init__(parent)
        self.setObjectName("actual_cause_dialog")
        self.setWindowTitle("Actual cause")
        self.setStyleSheet(
            form_style(scheme) + f"QDialog {{ background: {scheme.panel}; }}"
            f"QTreeWidget {{ background: {scheme.field}; color: {scheme.ink}; border: 1px solid {scheme.rule}; }}"
            f"QCheckBox {{ color: {scheme.ink}; }}"
        )
        self.nothing = QCheckBox("Nothing was faulty in the hardware")
        self.nothing.setObjectName("nothing_faulty")
        self.parts = QTreeWidget()
        self.parts.setObjectName("culprits")
        self.parts.setAccessibleName("Parts that were faulty")
        self.parts.setHeaderHidden(True)
        self._fill(state)
        self.note = QLineEdit()
        self.note.setObjectName("actual_cause_note")
        self.note.setPlaceholderText("how that was seen")
        self.buttons = QDialogButtonBox()
        keep = self.buttons.addButton("Close the job with this", QDialogButtonBox.ButtonRole.AcceptRole)
        assert keep is not None
        self._keep = keep
        self.buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(QLabel("Which part it really was; open a part where it is known how it was faulty."))
        for widget in (self.nothing, self.parts, self.note, self.buttons):
            column.addWidget(widget)
        self.nothing.toggled.connect(self._fit)
        self.parts.itemChanged.connect(self._fit)
        self._fit()
        self.resize(460, 480)

    def _fill(self, state: BenchState) -> None:
        suspects = state.verdict.suspects if state.verdict is not None else ()
        ours = {part.tag for part in state.book.parts if part.known_good}
        heads: dict[str, QTreeWidgetItem] = {}
        chances: dict[str, float] = {}
        for suspect in suspects:
            if suspect.kind is not None and suspect.tag not in ours:
                chances[suspect.tag or suspect.kind.value] = (
                    chances.get(suspect.tag or suspect.kind.value, 0.0) + suspect.probability
                )
        for suspect in sorted(suspects, key=lambda each: -chances.get(each.tag or each.part, 0.0)):
            if suspect.kind is None or suspect.tag in ours:
                continue
            name = suspect.tag or suspect.kind.value
            if suspect.mode.endswith(".settings"):
                words = f"settings of the {suspect.kind.value}"
                self.parts.addTopLevelItem(self._item(words, suspect.kind, "", suspect.mode))
                continue
            if name not in heads:
                heads[name] = self._item(f"{suspect.kind.value} {name}" if suspect.tag else name, suspect.kind, name)
                self.parts.addTopLevelItem(heads[name])
            heads[name].addChild(self._item(suspect.title, suspect.kind, suspect.tag, suspect.mode))

    def _item(self, words: str, kind: PartKind, tag: str, mode: str = "") -> QTreeWidgetItem:
        item = QTreeWidgetItem([words])
        item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
        item.setCheckState(0, Qt.CheckState.Unchecked)
        item.setData(0, _ROLE, (kind.value, tag, mode))
        return item

    def culprits(self) -> tuple[Culprit, ...]:
        """Return what is ticked; a part counts as a whole where none of its ways is."""
        found: list[Culprit] = []
        for number in range(self.parts.topLevelItemCount()):
            head = self.parts.topLevelItem(number)
            assert head is not None
            ways = [child for n in range(head.childCount()) if (child := head.child(n)) is not None and _ticked(child)]
            for item in ways or ([head] if _ticked(head) else []):
                kind, tag, mode = item.data(0, _ROLE)
                found.append(Culprit(PartKind(kind), tag, mode))
        return tuple(found)

    def _fit(self) -> None:
        self.parts.setEnabled(not self.nothing.isChecked())
        self._keep.setEnabled(self.nothing.isChecked() or bool(self.culprits()))

    def answer(self) -> CloseJob:
        """Return the command that closes the job with what was ticked."""
        return CloseJob(() if self.nothing.isChecked() else self.culprits(), self.note.text())


def _ticked(item: QTreeWidgetItem) -> bool:
    return item.checkState(0) is Qt.CheckState.Checked
