"""The style sheet, made from a palette."""

from __future__ import annotations

from PyQt6.QtGui import QFont, QFontMetricsF
from PyQt6.QtWidgets import QApplication

from common_bench.desk.look.palette import PAPER, Palette

FAMILIES = ["Inter", "Noto Sans", "DejaVu Sans", "sans-serif"]
MONO = '"DejaVu Sans Mono", "Liberation Mono", monospace'

current: Palette = PAPER


def palette() -> Palette:
    """The theme that is worn now."""
    return current


def wear(app: QApplication, theme: Palette) -> None:
    """Puts a theme on the whole program."""
    global current
    current = theme
    font = QFont()
    font.setFamilies(FAMILIES)
    font.setPixelSize(round(13 * theme.scale))
    if hasattr(font, "setFeature"):
        font.setFeature(QFont.Tag("tnum"), 1)
    app.setFont(font)
    app.setStyleSheet(sheet(theme))


def mono_advance(size: float) -> float:
    """px that a character of a raw line takes. size: px of the paper theme."""
    font = QFont()
    font.setFamilies([name.strip('" ') for name in MONO.split(",")])
    font.setPixelSize(px(size))
    return QFontMetricsF(font).horizontalAdvance("0")


def px(size: float) -> int:
    """A size of the paper theme, in px of the theme that is worn."""
    return round(size * current.scale)


def sheet(p: Palette) -> str:
    """A theme's style sheet."""

    def size(base: float) -> str:
        return f"{round(base * p.scale)}px"

    return f"""
    QWidget {{ color: {p.ink}; font-size: {size(13)}; }}
    QMainWindow, #paper, QScrollArea, QScrollArea > QWidget > QWidget {{ background: {p.paper}; }}
    QScrollArea {{ border: none; }}
    #card {{ background: {p.card}; border: 1px solid {p.hairline}; border-radius: 7px; }}
    #card QScrollArea, #card QScrollArea > QWidget > QWidget {{ background: {p.card}; }}
    #card[chosen="true"] {{ border: 2px solid {p.copper}; }}
    #card[tone="amber"] {{ border: 1px solid {p.amber}; }}
    #card[tone="red"] {{ border: 1px solid {p.red}; }}
    #line {{ background: {p.card}; border: none; border-bottom: 1px solid {p.hairline}; border-left: 3px solid {p.card}; }}
    #line[chosen="true"] {{ background: {p.wash}; border-left: 3px solid {p.copper}; }}
    QLineEdit[mono="true"] {{ font-family: {MONO}; font-size: {size(12)}; }}
    QLineEdit[large="true"] {{ font-size: {size(17)}; font-weight: 700; }}
    QLineEdit#quiet[wrong="typed"] {{ border: 1px solid {p.red}; }}
    QLineEdit#quiet {{ background: transparent; border: 1px solid transparent; padding: 1px 3px; }}
    QLineEdit#quiet:hover {{ background: {p.card}; border: 1px solid {p.hairline}; }}
    QLineEdit#quiet:focus {{ background: {p.card}; border: 1px solid {p.copper}; }}
    QLineEdit#quiet[wrong="true"] {{ border: 1px solid {p.red}; }}
    #wash {{ background: {p.wash}; border: none; border-radius: 6px; }}
    #plainwash {{ background: {p.chosen}; border: none; border-radius: 4px; }}
    #path {{ background: {p.card}; border-bottom: 1px solid {p.hairline}; }}
    #step {{ background: {p.card}; border: none; border-left: 1px solid {p.hairline}; border-bottom: 3px solid {p.card}; }}
    #step:hover {{ background: {p.chosen}; }}
    #step[chosen="true"] {{ background: {p.chosen}; border-bottom: 3px solid {p.copper}; }}
    #benches {{ background: {p.paper}; border-right: 1px solid {p.hairline}; }}
    #bench {{ background: transparent; border: 2px solid transparent; border-radius: 8px; }}
    #bench:hover {{ background: {p.chosen}; }}
    #bench[chosen="true"] {{ background: {p.card}; border: 2px solid {p.copper}; }}
    #bench[lit="true"], #card[lit="true"] {{ background: {p.card}; border: 4px solid {p.verdigris}; }}
    #messages {{ background: {p.paper}; border: none; }}
    #tape {{ background: {p.card}; border-top: 1px solid {p.hairline}; }}
    QLabel {{ background: transparent; border: none; }}
    QLabel[role="title"] {{ font-size: {size(17)}; font-weight: 700; }}
    QLabel[role="name"] {{ font-size: {size(14)}; font-weight: 650; }}
    QLabel[role="heading"] {{ font-size: {size(11)}; font-weight: 650; color: {p.soft}; letter-spacing: 1px; }}
    QLabel[role="soft"] {{ color: {p.soft}; }}
    QLabel[role="small"] {{ color: {p.soft}; font-size: {size(12)}; }}
    QLabel[role="copper"] {{ color: {p.copper}; font-weight: 650; }}
    QLabel[role="good"] {{ color: {p.green}; font-weight: 600; }}
    QLabel[role="amber"] {{ color: {p.amber}; font-weight: 600; }}
    QLabel[role="red"] {{ color: {p.red}; font-weight: 600; }}
    QLabel[large="true"] {{ font-size: {size(18)}; font-weight: 700; }}
    QLabel[role="value"] {{ font-size: {size(16)}; font-weight: 650; }}
    QLabel[role="finding"] {{ font-size: {size(23)}; font-weight: 650; }}
    QLabel[role="huge"] {{ font-size: {size(64)}; font-weight: 650; color: {p.verdigris}; }}
    QLabel[role="mono"] {{ font-family: {MONO}; font-size: {size(12)}; }}
    QPushButton {{ background: {p.card}; border: 1px solid {p.hairline}; border-radius: 6px; padding: {size(7)} {size(12)};
        font-weight: 600; }}
    QPushButton:hover {{ border-color: {p.soft}; }}
    QPushButton:focus {{ border: 2px solid {p.ink}; padding: {round(6 * p.scale)}px {round(11 * p.scale)}px; }}
    QPushButton:disabled {{ color: {p.soft}; background: {p.wash}; border-color: {p.hairline}; }}
    QPushButton[role="main"] {{ background: {p.copper}; color: {p.copper_ink}; border: 1px solid {p.copper}; }}
    QPushButton[role="main"]:disabled {{ background: {p.wash}; color: {p.soft}; border-color: {p.hairline}; }}
    QPushButton[role="link"] {{ background: transparent; border: none; color: {p.copper}; padding: 2px 4px; font-weight: 600;
        text-align: left; }}
    QPushButton[role="here"] {{ background: transparent; border: none; border-bottom: 2px solid {p.copper}; border-radius: 0;
        color: {p.ink}; padding: 2px 4px; font-weight: 650; }}
    QPushButton[role="link"]:disabled {{ color: {p.soft}; background: transparent; border: none; }}
    QPushButton[role="link"]:focus {{ border: 1px solid {p.copper}; padding: 1px 3px; }}
    QLineEdit, QPlainTextEdit, QComboBox, QSpinBox {{ background: {p.card}; border: 1px solid {p.hairline}; border-radius: 5px;
        padding: 4px 7px; selection-background-color: {p.copper}; selection-color: {p.copper_ink}; }}
    QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus, QSpinBox:focus {{ border: 2px solid {p.copper}; padding: 3px 6px; }}
    QLineEdit[wrong="true"] {{ border: 2px solid {p.red}; }}
    QPlainTextEdit {{ font-family: {MONO}; font-size: {size(13)}; }}
    QComboBox {{ padding-right: {size(16)}; }}
    QComboBox::drop-down {{ border: none; width: {size(18)}; }}
    QComboBox::down-arrow {{ image: none; width: 0; height: 0; border-left: 4px solid {p.card};
        border-right: 4px solid {p.card}; border-top: 5px solid {p.soft}; margin-right: 6px; }}
    QComboBox QAbstractItemView {{ background: {p.card}; color: {p.ink}; selection-background-color: {p.chosen};
        selection-color: {p.ink}; border: 1px solid {p.hairline}; }}
    QListWidget {{ background: {p.card}; border: 1px solid {p.hairline}; border-radius: 4px; outline: none; }}
    QListWidget::item {{ border-bottom: 1px solid {p.hairline}; }}
    QListWidget::item:selected {{ background: {p.chosen}; color: {p.ink}; }}
    QTableWidget {{ background: {p.card}; border: none; gridline-color: transparent; }}
    QTableWidget::item {{ border-bottom: 1px solid {p.hairline}; padding: 3px 3px; }}
    QTableWidget {{ selection-background-color: {p.chosen}; }}
    QTableWidget::item:selected {{ background: {p.chosen}; }}
    QTableWidget QLineEdit, QTableWidget QLineEdit:focus {{ padding: 0px 3px; border-width: 1px; }}
    QTableWidget:focus {{ border: 1px solid {p.copper}; border-radius: 4px; }}
    QHeaderView, QHeaderView::section {{ background: {p.card}; color: {p.soft}; border: none; font-size: {size(11)};
        font-weight: 650; }}
    QHeaderView::section {{ border-bottom: 1px solid {p.hairline}; padding: 4px 5px; }}
    QProgressBar {{ background: {p.hairline}; border: none; border-radius: 3px; }}
    QToolTip {{ background: {p.card}; color: {p.ink}; border: 1px solid {p.hairline}; padding: 4px; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; }}
    QScrollBar::handle:vertical {{ background: {p.hairline}; border-radius: 4px; min-height: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; }}
    QScrollBar::handle:horizontal {{ background: {p.hairline}; border-radius: 4px; min-width: 24px; }}
    """
