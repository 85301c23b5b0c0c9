"""Who the shop is: what a report prints of it, tax, currency, paper."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from thresher.model.errors import InputError
from thresher.shop.details import Paper, ShopDetails, check_details
from thresher.ui.chooser import Chooser
from thresher.ui.form import form_style
from thresher.ui.theme import Scheme


class DetailsDialog(QDialog):
    """The form. `wanted` brings details that can be meant; others are said below the fields."""

    wanted = pyqtSignal(object)

    def __init__(self, details: ShopDetails, scheme: Scheme, parent: QWidget | None = None) -> None:
        """Begin with what is known."""
        super().__init__(parent)
        self.setObjectName("details_dialog")
        self.setWindowTitle("Shop details")
        self.setStyleSheet(form_style(scheme) + f"QDialog {{ background: {scheme.panel}; }}")
        self.resize(420, 330)
        self.name, self.currency = QLineEdit(details.name, self), QLineEdit(details.currency, self)
        self.tax = QLineEdit(f"{details.tax_percent:g}", self)
        self.address = QPlainTextEdit(details.address, self)
        self.address.setFixedHeight(70)
        self.address.setTabChangesFocus(True)
        self.paper = Chooser(self)
        for paper in Paper:
            self.paper.addItem(paper.value, paper)
        self.paper.setCurrentIndex(list(Paper).index(details.paper))
        self.trouble = QLabel("", self)
        self.trouble.setObjectName("trouble")
        self.trouble.setWordWrap(True)
        form = QFormLayout()
        rows = (
            ("Name", self.name, "shop_name"),
            ("Address", self.address, "shop_address"),
            ("Currency", self.currency, "shop_currency"),
            ("Tax, %", self.tax, "shop_tax"),
            ("Paper", self.paper, "shop_paper"),
        )
        for label, field, name in rows:
            field.setObjectName(name)
            field.setAccessibleName(label)
            form.addRow(label, field)
        buttons = QDialogButtonBox(self)
        buttons.addButton("Keep details", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self.keep)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(QLabel("Printed at the head of every report. Prices are in the price list (Ctrl+P).", self))
        column.addLayout(form)
        column.addWidget(self.trouble)
        column.addWidget(buttons)

    def keep(self) -> None:
        """Keep what was typed, or say what is wrong with it."""
        try:
            tax = float(self.tax.text().strip().replace(",", ".") or "0")
        except ValueError:
            self.trouble.setText(f"Tax: expected a number such as 19, found {self.tax.text()!r}")
            return
        paper = self.paper.currentData()
        details = ShopDetails(
            name=" ".join(self.name.text().split()),
            address=self.address.toPlainText().strip(),
            currency=self.currency.text().strip(),
            tax_percent=tax,
            paper=paper if isinstance(paper, Paper) else Paper.A4,
        )
        try:
            check_details(details, "Shop details")
        except InputError as error:
            self.trouble.setText("; ".join(f"{fault.place}: {fault.message}" for fault in error.faults))
            return
        self.wanted.emit(details)
        self.accept()
