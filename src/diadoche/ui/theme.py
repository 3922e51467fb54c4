"""The look: colours of both schemes, the shipped typeface, and the style sheet made of them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication

FAMILY = "Atkinson Hyperlegible Next"
MONO_FAMILY = "Atkinson Hyperlegible Mono"
BASE_PX = 14
# What is large already need not become twice as large to be read.
LARGEST_PX = 38


@dataclass(frozen=True, slots=True)
class Colours:
    """Every colour that is used, by what it is for."""

    paper: str
    panel: str
    rail: str
    line: str
    ink: str
    soft: str
    proven: str
    way: str
    problem: str
    used: str
    picture_ground: str
    # Words where a picture would be.
    on_picture_ground: str
    dark: bool


LIGHT = Colours(
    "#F5F2EA",
    "#FFFDF8",
    "#E9E4D8",
    "#D8D1C2",
    "#1D2B2F",
    "#566263",
    "#1E7B68",
    "#2C5F9E",
    "#B3371F",
    "#BFC3BD",
    "#7F7F7F",
    "#000000",
    False,
)
DARK = Colours(
    "#1B1F20",
    "#242A2B",
    "#151819",
    "#384041",
    "#E8E6DF",
    "#9AA5A4",
    "#4FB59C",
    "#7FB0E8",
    "#F08A70",
    "#4A5453",
    "#5A5A5A",
    "#FFFFFF",
    True,
)


class Theme:
    """The colours and sizes in force."""

    def __init__(self, app: QApplication) -> None:
        self._app = app
        self.colours = LIGHT
        self.scale = 1.0
        for path in sorted((Path(__file__).parent.parent / "fonts").glob("*.ttf")):
            QFontDatabase.addApplicationFont(str(path))

    def apply(self, scheme: str, text_percent: int) -> None:
        """Puts a scheme and a text size in force, for every window."""
        hints = self._app.styleHints()
        dark = scheme == "dark" or (
            scheme == "system" and hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
        )
        self.colours = DARK if dark else LIGHT
        self.scale = text_percent / 100
        self._app.setStyle("Fusion")
        self._app.setFont(self.font(1.0))
        self._app.setPalette(self._palette())
        self._app.setStyleSheet(_style_sheet(self.colours, self.px))

    def px(self, factor: float) -> int:
        """Text height in pixels, `factor` times the base."""
        return max(8, round(BASE_PX * factor * self.scale))

    def font(self, factor: float, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
        """The typeface at a size and weight."""
        font = QFont(FAMILY)
        font.setPixelSize(self.px(factor))
        font.setWeight(weight)
        return font

    def _palette(self) -> QPalette:
        c = self.colours
        palette = QPalette()
        for role, colour in (
            (QPalette.ColorRole.Window, c.paper),
            (QPalette.ColorRole.WindowText, c.ink),
            (QPalette.ColorRole.Base, c.panel),
            (QPalette.ColorRole.AlternateBase, c.paper),
            (QPalette.ColorRole.Text, c.ink),
            (QPalette.ColorRole.Button, c.panel),
            (QPalette.ColorRole.ButtonText, c.ink),
            (QPalette.ColorRole.ToolTipBase, c.ink),
            (QPalette.ColorRole.ToolTipText, c.panel),
            (QPalette.ColorRole.Highlight, c.rail),
            (QPalette.ColorRole.HighlightedText, c.ink),
            (QPalette.ColorRole.PlaceholderText, c.soft),
            (QPalette.ColorRole.Mid, c.line),
            (QPalette.ColorRole.Dark, c.line),
        ):
            palette.setColor(role, QColor(colour))
        for role in (QPalette.ColorRole.ButtonText, QPalette.ColorRole.Text, QPalette.ColorRole.WindowText):
            palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(c.soft))
        return palette


def _style_sheet(c: Colours, px: object) -> str:
    size = px  # a function; named for the template below
    assert callable(size)
    return f"""
    QToolTip {{ background: {c.ink}; color: {c.panel}; border: none; padding: 4px 6px; }}
    QLabel {{ background: transparent; }}
    #watchLine {{ background: {c.panel}; border-bottom: 1px solid {c.line}; }}
    #watchFirst {{ font-size: {min(size(1.85), LARGEST_PX)}px; font-weight: 700; }}
    #watchSecond {{ font-size: {min(size(1.35), LARGEST_PX - 6)}px; }}
    #watchAside {{ font-size: {min(size(1.35), LARGEST_PX - 6)}px; font-weight: 600; }}
    #rail {{ background: {c.rail}; }}
    QFrame#member {{ background: transparent; border: none; border-top: 1px solid {c.line}; }}
    QFrame#panel {{ background: {c.panel}; border: 1px solid {c.line}; border-radius: 3px; }}
    QLabel#heading {{ font-size: {size(1.22)}px; font-weight: 700; }}
    QLabel#title {{ font-size: {size(1.28)}px; font-weight: 600; }}
    QLabel#strong {{ font-weight: 700; }}
    QLabel#soft {{ color: {c.soft}; font-weight: 400; }}
    QLabel#small {{ color: {c.soft}; font-size: {size(0.92)}px; }}
    QLabel#way {{ color: {c.way}; font-weight: 700; }}
    QLabel#proven {{ color: {c.proven}; font-weight: 700; }}
    QLabel#problem {{ color: {c.problem}; font-weight: 600; }}
    QPushButton {{ background: {c.panel}; border: 1px solid {c.ink}; border-radius: 3px; padding: 6px 14px;
        font-weight: 600; }}
    QPushButton:hover {{ background: {c.rail}; }}
    QPushButton:focus {{ border: 2px solid {c.way}; padding: 5px 13px; }}
    QPushButton:disabled {{ border-color: {c.line}; color: {c.soft}; }}
    QPushButton#main {{ background: {c.ink}; color: {c.panel}; padding: 9px 22px; font-size: {size(1.1)}px; }}
    QPushButton#main:focus {{ border: 3px solid {c.way}; padding: 7px 20px; }}
    QPushButton#main:disabled {{ background: {c.rail}; color: {c.soft}; border: 1px solid {c.line}; }}
    QPushButton#link {{ border: none; padding: 2px 4px; text-align: left; color: {c.ink}; text-decoration: underline;
        background: transparent; font-weight: 400; }}
    QPushButton#link:focus {{ border: 2px solid {c.way}; padding: 0px 2px; }}
    QPushButton#link:disabled {{ color: {c.soft}; text-decoration: none; }}
    QPushButton#choice {{ padding: 4px 12px; font-weight: 400; border-color: {c.line}; }}
    QPushButton#choice:checked {{ background: {c.ink}; color: {c.panel}; font-weight: 600; border-color: {c.ink}; }}
    QPushButton#choice:focus {{ border: 2px solid {c.way}; padding: 3px 11px; }}
    QPushButton#tab {{ border: none; border-bottom: 3px solid transparent; border-radius: 0; background: transparent;
        color: {c.soft}; font-size: {size(1.15)}px; padding: 3px 6px; }}
    QPushButton#tab:checked {{ color: {c.ink}; border-bottom: 3px solid {c.ink}; }}
    QPushButton#tab:hover {{ color: {c.ink}; }}
    QPushButton#tab:focus {{ border: 2px solid {c.way}; padding: 2px 4px; }}
    QPushButton#foot {{ border: none; background: transparent; color: {c.soft}; font-weight: 400; text-align: left;
        font-size: {size(0.92)}px; padding: 3px 2px; }}
    QPushButton#foot:hover {{ color: {c.ink}; }}
    QPushButton#foot:focus {{ border: 2px solid {c.way}; padding: 1px 0px; }}
    QTableView {{ background: {c.panel}; border: 1px solid {c.line}; border-radius: 3px; gridline-color: transparent;
        selection-background-color: {c.rail}; selection-color: {c.ink}; }}
    QTableView {{ outline: none; }}
    QScrollArea#scrolled {{ border: 2px solid transparent; }}
    QScrollArea#scrolled:focus {{ border-color: {c.way}; }}
    QTableView:focus {{ border: 2px solid {c.way}; }}
    QTableView::item {{ padding: 0 8px; border: none; }}
    QTableView::item:selected {{ background: {c.rail}; color: {c.ink}; }}
    QHeaderView::section {{ background: {c.panel}; color: {c.soft}; border: none; border-bottom: 1px solid {c.line};
        padding: 7px 10px; font-weight: 600; text-align: left; }}
    QSlider::groove:horizontal {{ height: 4px; background: {c.line}; border-radius: 2px; }}
    QSlider::handle:horizontal {{ width: 10px; margin: -8px 0; background: {c.ink}; border-radius: 2px; }}
    QSlider::handle:horizontal:focus {{ background: {c.way}; }}
    QDoubleSpinBox {{ background: {c.paper}; border: 1px solid {c.line}; border-radius: 3px; padding: 5px 6px; }}
    QDoubleSpinBox:focus {{ border: 2px solid {c.way}; padding: 4px 5px; }}
    QComboBox, QLineEdit {{ background: {c.paper}; border: 1px solid {c.line}; border-radius: 3px; padding: 5px 9px; }}
    QComboBox:focus, QLineEdit:focus {{ border: 2px solid {c.way}; padding: 4px 8px; }}
    QComboBox::drop-down {{ border: none; width: 26px; }} QComboBox::down-arrow {{ image: none; }}
    QComboBox QAbstractItemView {{ background: {c.panel}; color: {c.ink}; selection-background-color: {c.rail};
        selection-color: {c.ink}; }}
    QPushButton#bench {{ padding: 6px 7px; font-weight: 400; }}
    QPushButton#bench:focus {{ padding: 5px 6px; }}
    QScrollBar {{ background: transparent; border: none; margin: 0; }}
    QScrollBar:vertical {{ width: 12px; }} QScrollBar:horizontal {{ height: 12px; }}
    QScrollBar::handle {{ background: {c.line}; border-radius: 4px; margin: 2px; min-height: 28px; min-width: 28px; }}
    QScrollBar::handle:hover {{ background: {c.soft}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    QMenu {{ background: {c.panel}; border: 1px solid {c.line}; }}
    QAbstractScrollArea::corner {{ background: transparent; border: none; }}
    QMenu::item {{ padding: 6px 18px; }} QMenu::item:selected {{ background: {c.rail}; }}
    """
