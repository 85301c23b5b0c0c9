"""Every colour and font of the window, in a light (paper) and a dark (night bench) scheme.

Colours of parts are the same everywhere; status is shown by the shape of a mark, never by colour alone.
"""

from dataclasses import dataclass, fields
from functools import lru_cache
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QFontMetricsF, QGuiApplication, QPalette
from PyQt6.QtWidgets import QApplication

from thresher.model.findings import Severity
from thresher.model.parts import PartKind, PartStatus

_FONTS = Path(__file__).parent / "fonts"


@dataclass(frozen=True, slots=True)
class Scheme:
    """The tokens of one scheme, as #rrggbb."""

    dark: bool
    paper: str
    panel: str
    field: str
    ink: str
    soft: str
    rule: str
    grid: str
    rail: str
    straw: str
    band: str
    band_ink: str
    band_soft: str
    band_mark: str
    processor: str
    memory: str
    graphics: str
    drive: str
    power: str
    cooling: str
    fault: str
    cleared: str
    on_part: str
    stop: str
    on_stop: str

    def part(self, kind: PartKind | None) -> QColor:
        """Return the colour of a kind of part; ink for none."""
        if kind is None:
            return QColor(self.ink)
        return QColor(getattr(self, _PART_TOKENS.get(kind, kind.value)))

    def severity(self, severity: Severity) -> QColor:
        """Return the colour of the bar beside a tape entry."""
        return QColor({Severity.NOTE: self.soft, Severity.WARNING: self.straw, Severity.FAULT: self.fault}[severity])

    def status(self, status: PartStatus) -> QColor:
        """Return the colour of a status mark."""
        return QColor(
            {
                PartStatus.UNTESTED: self.soft,
                PartStatus.CLEARED: self.cleared,
                PartStatus.IN_DOUBT: self.straw,
                PartStatus.REPLACE: self.fault,
            }[status]
        )


_PART_TOKENS = {
    PartKind.BOARD: "power",
    PartKind.BATTERY: "power",
    PartKind.NETWORK: "cooling",
    PartKind.SOUND: "cooling",
    PartKind.DISPLAY: "graphics",
}
"""Parts that share the colour of the group they belong to."""

LIGHT = Scheme(
    dark=False,
    paper="#F4EFE3",
    panel="#FBF8F1",
    field="#FFFDF8",
    ink="#22302E",
    soft="#5B6762",
    rule="#D8CFBA",
    grid="#E9E2D1",
    rail="#EAE3D2",
    straw="#C28F1E",
    band="#22302E",
    band_ink="#F4EFE3",
    band_soft="#B9C2BC",
    band_mark="#E3C777",
    processor="#1F6F78",
    memory="#7A4A80",
    graphics="#66781F",
    drive="#3F5F8A",
    power="#8A5533",
    cooling="#22302E",
    fault="#A93A28",
    cleared="#2B7A80",
    on_part="#FFFFFF",
    stop="#A93A28",
    on_stop="#FFFFFF",
)

DARK = Scheme(
    dark=True,
    paper="#161D1C",
    panel="#1D2625",
    field="#222C2A",
    ink="#E8E2D3",
    soft="#9DA8A1",
    rule="#3A4643",
    grid="#2A3533",
    rail="#1A2221",
    straw="#D9A93A",
    band="#0E1413",
    band_ink="#F0EADB",
    band_soft="#9DA8A1",
    band_mark="#E3C777",
    processor="#5FB3BB",
    memory="#C094C6",
    graphics="#A9BD5C",
    drive="#8FAEDB",
    power="#D09A73",
    cooling="#C9CFC6",
    fault="#E98570",
    cleared="#6FC0C4",
    on_part="#111716",
    stop="#B5402C",
    on_stop="#FFFFFF",
)

TEXT_PAIRS = (
    ("ink", "paper"),
    ("ink", "panel"),
    ("ink", "field"),
    ("ink", "rail"),
    ("soft", "paper"),
    ("soft", "panel"),
    ("soft", "field"),
    ("soft", "rail"),
    ("fault", "panel"),
    ("fault", "paper"),
    ("fault", "field"),
    ("processor", "panel"),
    ("memory", "panel"),
    ("graphics", "panel"),
    ("drive", "panel"),
    ("power", "panel"),
    ("cooling", "panel"),
    ("cleared", "panel"),
    ("band_ink", "band"),
    ("band_soft", "band"),
    ("band_mark", "band"),
    ("on_part", "processor"),
    ("on_part", "memory"),
    ("on_part", "graphics"),
    ("on_part", "drive"),
    ("on_part", "power"),
    ("on_stop", "stop"),
)
"""Every text colour with every background it is written on; a test holds each to a contrast of 4.5."""


def contrast(one: str, other: str) -> float:
    """Return the contrast ratio of two colours (WCAG 2.1, relative luminance), 1 to 21."""

    def luminance(colour: str) -> float:
        channels = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    brighter, darker = sorted((luminance(one), luminance(other)), reverse=True)
    return (brighter + 0.05) / (darker + 0.05)


def desktop_scheme() -> Scheme:
    """Return the scheme that the desktop asks for."""
    hints = QGuiApplication.styleHints()
    return DARK if hints is not None and hints.colorScheme() is Qt.ColorScheme.Dark else LIGHT


def load_fonts() -> None:
    """Make the fonts that come with the program known to Qt."""
    for path in sorted(_FONTS.glob("*.otf")):
        QFontDatabase.addApplicationFont(str(path))
    _made_face.cache_clear()


def font(pixels: float, bold: bool = False, mono: bool = False) -> QFont:
    """Return a font of the program, scaled with the desktop's own text size."""
    return face(pixels, bold, mono)[0]


def face(pixels: float, bold: bool = False, mono: bool = False) -> tuple[QFont, QFontMetricsF]:
    """Return a font of the program with its metrics."""
    base = QApplication.font().pointSizeF() / 10.0 if isinstance(QApplication.instance(), QApplication) else 1.0
    return _made_face(max(7, round(pixels * max(0.7, base))), bold, mono)


@lru_cache(maxsize=128)
def _made_face(pixels: int, bold: bool, mono: bool) -> tuple[QFont, QFontMetricsF]:
    """Finding a font takes Qt some 0.1 ms, which a frame with hundreds of words cannot spend."""
    made = QFont("B612 Mono" if mono else "B612")
    made.setPixelSize(pixels)
    made.setBold(bold)
    return made, QFontMetricsF(made)


def apply(app: QApplication, scheme: Scheme) -> None:
    """Give Qt's own widgets the scheme's colours."""
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: scheme.paper,
        QPalette.ColorRole.Base: scheme.field,
        QPalette.ColorRole.AlternateBase: scheme.panel,
        QPalette.ColorRole.Button: scheme.panel,
        QPalette.ColorRole.WindowText: scheme.ink,
        QPalette.ColorRole.Text: scheme.ink,
        QPalette.ColorRole.ButtonText: scheme.ink,
        QPalette.ColorRole.ToolTipBase: scheme.field,
        QPalette.ColorRole.ToolTipText: scheme.ink,
        QPalette.ColorRole.Highlight: scheme.processor,
        QPalette.ColorRole.HighlightedText: scheme.on_part,
        QPalette.ColorRole.PlaceholderText: scheme.soft,
    }
    for role, colour in roles.items():
        palette.setColor(role, QColor(colour))
    app.setPalette(palette)
    app.setStyleSheet(
        f"QToolTip {{ background: {scheme.field}; color: {scheme.ink}; border: 1px solid {scheme.rule};"
        " padding: 4px; }"
        f"QMenu {{ background: {scheme.field}; color: {scheme.ink}; border: 1px solid {scheme.rule}; }}"
        f"QMenu::item {{ padding: 5px 22px; }}"
        f"QMenu::item:selected {{ background: {scheme.grid}; color: {scheme.ink}; }}"
        f"QMenu::item:disabled {{ color: {scheme.soft}; }}"
        f"QScrollBar:vertical {{ background: {scheme.panel}; width: 9px; }}"
        f"QScrollBar::handle:vertical {{ background: {scheme.rule}; min-height: 24px; }}"
        "QScrollBar::add-line, QScrollBar::sub-line { height: 0; }"
    )


def colour_names() -> tuple[str, ...]:
    """Return the names of all colour tokens."""
    return tuple(each.name for each in fields(Scheme) if each.name != "dark")
