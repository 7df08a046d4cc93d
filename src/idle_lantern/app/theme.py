"""The look, decided once: greys, one accent, type sizes, spacing, shapes of states.

Surroundings are neutral grey, since colour is judged next to them. The accent is
the yellow-green of lichen on stone, used for what is shot next, rows chosen in lists and
the one main action of a stage. States differ by line and pattern as well as by tone.
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication, QWidget

SPACE = 8
FAMILY = "B612"

#: Type sizes in pixels at scale 1.
TINY, SMALL, BODY, HEAD, BIG, HUGE = 9, 12, 13, 15, 22, 44


@dataclass(frozen=True)
class Palette:
    """One set of tones; all neutral but the accent and the warning."""

    name: str
    ground: str
    panel: str
    raised: str
    line: str
    text: str
    dim: str
    accent: str
    on_accent: str
    warn: str
    scale: float = 1.0

    @property
    def text_scale(self) -> float:
        """Size of text and of what holds it, by the look and by the person's wish."""
        return min(self.scale * _text_size, TEXT_SIZES[-1])


#: Sizes of text that can be chosen, as a share of the usual one.
TEXT_SIZES = (1.0, 1.25, 1.5)
_text_size = 1.0

#: Widths at scale 1: labels and fields of the pages, the list of pages, what stands beside them.
_LABEL, LABEL_GAP, _FIELD, _PAGES, _RESULTS = 108, 12, 126, 146, 288
#: The panel beside a picture, the line of stages, and the line of messages at the foot of the window.
PANEL, TAB, FOOT = 236, 30, 34


LOOKS = {
    "dark": Palette(
        "dark", "#1b1b1b", "#252525", "#313131", "#4a4a4a", "#dedede", "#9c9c9c", "#b7c63f", "#161616", "#e0a070"
    ),
    "light": Palette(
        "light", "#cfcfcf", "#dddddd", "#ececec", "#727272", "#161616", "#4c4c4c", "#5d6b00", "#ffffff", "#8a3b00"
    ),
    "field": Palette(
        "field", "#ffffff", "#ffffff", "#f0f0f0", "#000000", "#000000", "#222222", "#3f4a00", "#ffffff", "#7a2000", 1.2
    ),
}

_current = LOOKS["dark"]


def look() -> Palette:
    """The look in force."""
    return _current


def column_px() -> int:
    """Width of a block of fields: label, gap and field."""
    return scaled(_LABEL) + LABEL_GAP + scaled(_FIELD)


def scaled(size: int) -> int:
    """Pixels at the size of text in force."""
    return round(size * _current.text_scale)


def colour(name: str, alpha: int = 255) -> QColor:
    """A tone of the look in force by its field name."""
    c = QColor(getattr(_current, name))
    c.setAlpha(alpha)
    return c


def font(size: int = BODY, *, bold: bool = False) -> QFont:
    """The typeface at one of the sizes; its digits are all of one width."""
    f = QFont(FAMILY)
    f.setPixelSize(scaled(size))
    f.setBold(bold)
    return f


def load_typeface() -> None:
    """Register the bundled typeface."""
    folder = resources.files("idle_lantern").joinpath("fonts")
    for entry in folder.iterdir():
        if entry.name.endswith(".otf"):
            QFontDatabase.addApplicationFontFromData(entry.read_bytes())


def apply(app: QApplication, name: str, text_size: float = 1.0) -> None:
    """Put a look into force for the whole application."""
    global _current, _text_size
    _text_size = min(max(text_size, TEXT_SIZES[0]), TEXT_SIZES[-1])
    _current = LOOKS.get(name, LOOKS["dark"])
    app.setFont(font())
    app.setPalette(_palette())
    for window in app.topLevelWidgets():
        if window.parent() is None:
            dress(window)


def dress(window: QWidget) -> None:
    """Give a window the sheet of the look in force; its children and dialogs follow.

    A sheet of the whole application would be simpler, and takes Qt five times as long to change.
    """
    window.setStyleSheet(_sheet(_current))


def _palette() -> QPalette:
    """What the sheet does not name: text, links, grounds. Tones of every widget by rules of the sheet would take a second."""
    roles = QPalette.ColorRole
    palette = QPalette()
    for role, tone in (
        (roles.Window, "ground"),
        (roles.Base, "raised"),
        (roles.AlternateBase, "panel"),
        (roles.Button, "raised"),
        (roles.ToolTipBase, "raised"),
        (roles.Highlight, "accent"),
        (roles.HighlightedText, "on_accent"),
        (roles.Link, "accent"),
        (roles.LinkVisited, "accent"),
        (roles.PlaceholderText, "dim"),
    ):
        palette.setColor(role, colour(tone))
    for role in (roles.WindowText, roles.Text, roles.ButtonText, roles.ToolTipText):
        palette.setColor(role, colour("text"))
        palette.setColor(QPalette.ColorGroup.Disabled, role, colour("dim"))
    return palette


def _sheet(k: Palette) -> str:
    def px(size: int) -> str:
        return f"{round(size * k.text_scale)}px"

    list_ = round(_PAGES * k.text_scale) + 12  # a scroll bar beside it
    inner = round(TAB * k.text_scale) - 4  # of the tab that carries the bar
    field = round(_FIELD * k.text_scale) - 2 * (7 + 1)  # the sheet counts what lies inside frame and padding
    return f"""
QMainWindow, QWidget#ground, QDialog {{ background: {k.ground}; }}
QWidget#panel, QScrollArea#panel {{ background: {k.panel}; }}
QWidget#side {{ background: {k.panel}; min-width: {px(PANEL)}; max-width: {px(PANEL)}; }}
QWidget#foot {{ background: {k.panel}; min-height: {px(FOOT)}; max-height: {px(FOOT)}; }}
QWidget#side QPushButton {{ padding: 5px 8px; }}
QWidget#side QPushButton:focus {{ padding: 4px 7px; }}
QWidget#side QPushButton:checked {{ padding-bottom: 2px; }}
QWidget#foot QPushButton {{ padding: 2px 10px; }}
QLabel {{ background: transparent; }}
QLabel[role="head"] {{ font-size: {px(HEAD)}; font-weight: bold; }}
QLabel[role="stage"] {{ font-size: {px(HEAD)}; }}
QLabel[chosen="true"] {{ font-weight: bold; }}
QLabel[role="dim"] {{ color: {k.dim}; font-size: {px(SMALL)}; }}
QLabel[role="big"] {{ font-size: {px(BIG)}; font-weight: bold; }}
QLabel[role="huge"] {{ font-size: {px(HUGE)}; font-weight: bold; }}
QLabel[role="warn"] {{ color: {k.warn}; }}
QLineEdit, QComboBox, QPlainTextEdit {{ background: {k.raised}; border: 1px solid {k.line}; border-radius: 2px;
  padding: 4px 7px; selection-background-color: {k.accent}; selection-color: {k.on_accent}; min-height: 18px; }}
QLineEdit:focus, QComboBox:focus, QPlainTextEdit:focus {{ border: 2px solid {k.accent}; padding: 3px 6px; }}
QLineEdit[wrong="true"] {{ border: 2px dashed {k.warn}; padding: 3px 6px; }}
QComboBox {{ combobox-popup: 0; }}
QWidget#topic QLabel[form="name"] {{ min-width: {px(_LABEL)}; max-width: {px(_LABEL)}; }}
QWidget#topic QLineEdit[form="field"], QWidget#topic QComboBox[form="field"] {{
  min-width: {field}px; max-width: {field}px; }}
QScrollArea#pages-scroll {{ min-width: {list_}px; max-width: {list_}px; }}
QWidget#pages-list {{ min-width: {px(_PAGES)}; max-width: {px(_PAGES)}; }}
QWidget#results {{ min-width: {px(_RESULTS)}; max-width: {px(_RESULTS)}; }}
QComboBox::drop-down {{ width: 20px; border: none; }}
QComboBox::down-arrow {{ image: none; width: 0px; }}
QComboBox QAbstractItemView {{ background: {k.raised}; border: 1px solid {k.line};
  selection-background-color: {k.accent}; selection-color: {k.on_accent}; }}
QPushButton {{ background: {k.raised}; border: 1px solid {k.line}; border-radius: 2px; padding: 6px 14px; }}
QPushButton:hover {{ border-color: {k.text}; }}
QPushButton:focus {{ border: 2px solid {k.accent}; padding: 5px 13px; }}
QPushButton:disabled {{ color: {k.dim}; border-style: dashed; }}
QPushButton:checked {{ border-bottom: 4px solid {k.accent}; padding-bottom: 3px; }}
QPushButton[main="true"] {{ background: {k.accent}; color: {k.on_accent}; border-color: {k.accent};
  font-weight: bold; padding: 9px 18px; }}
QPushButton[main="true"]:focus {{ border: 2px solid {k.text}; padding: 8px 17px; }}
QPushButton[main="true"]:disabled {{ background: {k.panel}; color: {k.dim}; border: 1px dashed {k.line}; }}
QPushButton[quiet="true"] {{ background: transparent; border: none; padding: 4px 8px; text-decoration: underline; }}
QPushButton[held="true"] {{ color: {k.accent}; }}
QPushButton[page="true"] {{ background: {k.ground}; border: none; border-left: 4px solid {k.ground}; border-radius: 0;
  padding: 0; min-height: {px(35)}; max-height: {px(35)}; }}
QPushButton[page="true"]:checked {{ background: {k.raised}; border-left: 4px solid {k.accent}; }}
QPushButton[page="true"]:focus {{ border: 2px solid {k.accent}; }}
QPushButton[card="true"] {{ border: none; border-radius: 0; padding: 0; }}
QPushButton[stage="true"] {{ background: {k.panel}; border: none; border-top: 1px solid {k.line}; border-radius: 0; padding: 0;
  min-height: {px(TAB - 1)}; max-height: {px(TAB - 1)}; }}
QPushButton[stage="true"]:checked {{ background: {k.ground}; border-top: 4px solid {k.accent};
  min-height: {inner}px; max-height: {inner}px; }}
QPushButton[stage="true"]:focus {{ border: 2px solid {k.accent}; }}
QCheckBox {{ spacing: 8px; background: transparent; }}
QCheckBox::indicator, QListView::indicator {{ width: 14px; height: 14px; border: 1px solid {k.line}; background: {k.raised}; }}
QCheckBox::indicator:checked, QListView::indicator:checked {{ background: {k.accent}; border: 3px solid {k.raised}; }}
QListView::indicator:checked:selected {{ background: {k.text}; border: 3px solid {k.raised}; }}
QCheckBox:focus, QRadioButton:focus {{ color: {k.accent}; }}
QRadioButton {{ spacing: 8px; background: transparent; }}
QRadioButton::indicator {{ width: 14px; height: 14px; border: 1px solid {k.line}; background: {k.raised};
  border-radius: 8px; }}
QRadioButton::indicator:checked {{ width: 10px; height: 10px; background: {k.accent}; border: 3px solid {k.raised}; }}
QSlider {{ background: transparent; min-height: 20px; }}
QSlider::groove:horizontal {{ height: 4px; background: {k.line}; }}
QSlider::handle:horizontal {{ width: 10px; margin: -7px 0; background: {k.text}; }}
QSlider:focus {{ border-bottom: 2px solid {k.accent}; }}
QListWidget, QTableWidget, QTreeWidget {{ background: {k.panel}; border: 1px solid {k.line}; outline: none;
  selection-background-color: {k.accent}; selection-color: {k.on_accent}; gridline-color: {k.raised}; }}
QListWidget::item {{ padding: 5px; }}
QListWidget::item:selected {{ background: {k.accent}; color: {k.on_accent}; }}
QListWidget#thumbs::item {{ border: 3px solid transparent; }}
QListWidget#thumbs::item:selected {{ background: {k.raised}; color: {k.text}; border: 3px solid {k.accent}; }}
QAbstractItemView {{ background: {k.panel}; alternate-background-color: {k.raised};
  selection-background-color: {k.accent}; selection-color: {k.on_accent}; }}
QToolButton {{ background: {k.raised}; border: 1px solid {k.line}; padding: 3px; }}
QHeaderView::section {{ background: {k.panel}; color: {k.dim}; border: none; border-bottom: 1px solid {k.line}; padding: 4px 8px; }}
QTableWidget::item {{ padding: 2px 5px; }}
QProgressBar {{ background: {k.raised}; border: 1px solid {k.line}; height: 12px; text-align: center; }}
QProgressBar::chunk {{ background: {k.accent}; }}
QMenuBar {{ background: {k.ground}; padding: 2px; }}
QMenuBar::item {{ background: transparent; padding: 4px 10px; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {k.accent}; color: {k.on_accent}; }}
QMenu {{ background: {k.panel}; border: 1px solid {k.line}; }}
QMenu::item {{ padding: 5px 28px 5px 14px; background: transparent; }}
QMenu::item:disabled {{ color: {k.dim}; }}
QMenu::separator {{ height: 1px; background: {k.line}; margin: 4px 8px; }}
QScrollBar {{ background: {k.panel}; width: 10px; height: 10px; }}
QScrollBar::handle {{ background: {k.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QSplitter::handle {{ background: {k.line}; }}
QToolTip {{ background: {k.raised}; color: {k.text}; border: 1px solid {k.line}; padding: 4px; }}
QScrollArea {{ border: none; background: transparent; }}
QScrollArea > QWidget > QWidget {{ background: transparent; }}
"""
