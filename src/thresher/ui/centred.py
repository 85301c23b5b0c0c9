"""The labels of a view that covers the window: one below the other, wrapped, in the middle."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QWidget


def centred_labels(parent: QWidget, *names: str) -> tuple[QLabel, ...]:
    """Return one empty label a name, which is its object name for a style sheet."""
    labels = tuple(QLabel("", parent) for _ in names)
    for label, name in zip(labels, names, strict=True):
        label.setObjectName(name)
        label.setWordWrap(True)
        label.setAlignment(Qt.AlignmentFlag.AlignHCenter)
    return labels
