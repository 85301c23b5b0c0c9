"""What the program may do on this machine, what more would bring, and how to get it."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from thresher.model.access import Access, Allowed
from thresher.ui.form import form_style
from thresher.ui.theme import Scheme

_STANDS = {Allowed.YES: "allowed", Allowed.ASK: "not asked yet", Allowed.NO: "not allowed"}
_WIDE, _BRINGS_WIDE = 760, 380


class AccessDialog(QDialog):
    """Every right with what it brings; a button asks for all that is missing, or looks whether it is there by now."""

    def __init__(self, access: Access, ask: Callable[[], None], scheme: Scheme, parent: QWidget | None = None) -> None:
        """`ask` has a person asked for full access."""
        super().__init__(parent)
        self.setObjectName("access")
        self.setWindowTitle("Access to this machine")
        self.setStyleSheet(
            form_style(scheme)
            + f"QDialog {{ background: {scheme.panel}; }} QLabel#level {{ font-size: 17px; color: {scheme.ink}; }}"
            + f"QLabel#right {{ color: {scheme.ink}; font-weight: 600; }} QLabel#there {{ color: {scheme.ink}; }}"
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        column.setSpacing(10)
        column.addWidget(_label(access.level.value.capitalize(), "level"))
        column.addWidget(_label(_about(access), "about"))
        column.addLayout(_rows(access))
        buttons = QDialogButtonBox(self)
        self.ask = QPushButton("Ask for full access" if access.can_ask else "Look again")
        self.ask.setObjectName("ask_access")
        self.ask.clicked.connect(self.accept)
        self.ask.clicked.connect(lambda _checked=False: ask())
        if access.missing:  # the helper may have been installed, or a rule been changed, since
            buttons.addButton(self.ask, QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self.setMinimumWidth(_WIDE)


def _rows(access: Access) -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(16)
    grid.setVerticalSpacing(8)
    grid.setColumnStretch(1, 1)
    for row, item in enumerate(access.items):
        there = item.allowed is Allowed.YES
        columns = (
            _label(item.words.capitalize(), "right"),
            _label(item.brings, "brings"),
            _label(_STANDS[item.allowed], "there" if there else "missing"),
        )
        for place, label in enumerate(columns):
            label.setWordWrap(place == 1)
            label.setAlignment(Qt.AlignmentFlag.AlignTop)
            if place == 1:
                label.setFixedWidth(_BRINGS_WIDE)
                label.ensurePolished()  # with the style's font, or the last line is cut off
                label.setMinimumHeight(label.heightForWidth(_BRINGS_WIDE))
            grid.addWidget(label, row, place)
    return grid


def _label(words: str, name: str) -> QLabel:
    label = QLabel(words)
    label.setObjectName(name)
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    return label


def _about(access: Access) -> str:
    if not access.items:
        return "Nothing has to be asked for on this machine."
    if not access.missing:
        return "All that Thresher can read and test here is open to it."
    without = "Everything works without it; what is not allowed is left out."
    if access.can_ask:
        return f"{without} One question to an administrator opens it."
    why = f"{access.why[:1].upper()}{access.why[1:]}" if access.why else "The rules of this computer do not allow it"
    return f"{without} {why}."
