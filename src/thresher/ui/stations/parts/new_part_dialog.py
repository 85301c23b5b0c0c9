"""Taking a part into the book that neither the machine nor the shelf has: one that was bought for this job."""

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QLabel, QLineEdit, QWidget

from thresher.model.parts import PartKind
from thresher.model.trials import Book
from thresher.protocol.commands import AddPart
from thresher.ui.chooser import Chooser
from thresher.ui.form import form_style
from thresher.ui.theme import Scheme

_KINDS = (
    PartKind.MEMORY,
    PartKind.PROCESSOR,
    PartKind.BOARD,
    PartKind.POWER,
    PartKind.COOLING,
    PartKind.GRAPHICS,
    PartKind.DRIVE,
)


class NewPartDialog(QDialog):
    """Kind, tag and name; the tag must be one that nobody has yet."""

    def __init__(self, book: Book, scheme: Scheme, parent: QWidget | None = None) -> None:
        """Propose the next free tag."""
        super().__init__(parent)
        self.setObjectName("new_part_dialog")
        self.setWindowTitle("A new part")
        self.setStyleSheet(form_style(scheme) + f"QDialog {{ background: {scheme.panel}; }}")
        self._taken = {part.tag for part in book.parts}
        self.kind = Chooser()
        self.kind.setObjectName("new_kind")
        for kind in _KINDS:
            self.kind.addItem(kind.value, kind)
        number = next(n for n in range(1, len(self._taken) + 2) if f"N-{n}" not in self._taken)
        self.tag = QLineEdit(f"N-{number}")
        self.tag.setObjectName("new_tag")
        self.name = QLineEdit()
        self.name.setObjectName("new_name")
        self.name.setPlaceholderText("maker, model, where it is from")
        self.buttons = QDialogButtonBox()
        take = self.buttons.addButton("Add part", QDialogButtonBox.ButtonRole.AcceptRole)
        assert take is not None
        self._take = take
        self.buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        form = QFormLayout(self)
        form.addRow(QLabel("It counts as good until proven otherwise."))
        for title, widget in (("Kind", self.kind), ("Tag", self.tag), ("Name", self.name)):
            form.addRow(title, widget)
        form.addRow(self.buttons)
        self.tag.textChanged.connect(self._fit)
        self._fit()

    def _fit(self) -> None:
        tag = self.tag.text().strip()
        self._take.setEnabled(bool(tag) and tag not in self._taken)
        self._take.setToolTip("" if self._take.isEnabled() else "Choose a tag that no other part has")

    def answer(self) -> AddPart:
        """Return the command that adds the part."""
        kind: PartKind = self.kind.currentData()
        return AddPart(self.tag.text().strip(), kind, self.name.text().strip())
