"""The gear library: look up, change, add, take over, bring in, hand on."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QLineEdit,
    QMessageBox,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from idle_lantern.app import theme
from idle_lantern.app.widgets.basics import (
    asked,
    button,
    by_return,
    column,
    emptied,
    form,
    label,
    panel,
    row,
    set_look_property,
)
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.base.strict_json import read_text
from idle_lantern.core.gear.entries import KINDS, Entry, entry_from, facts_of
from idle_lantern.core.gear.library import Library
from idle_lantern.core.geometry.lenses import MODELS
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.plan.brief import SUPPORTS

_TITLES = {
    "camera": "Cameras",
    "lens": "Lenses",
    "head": "Heads and supports",
    "filter": "Filters",
    "card": "Cards",
    "tripod": "Tripods",
    "measured-lens": "Measured lenses",
}
#: How the facts are called where their names alone would not do.
_FACTS = {
    "raw_mb": "File of one exposure, MB",
    "exposures_each": "Exposures for one frame",
    "range_stops": "Sensor's range, stops",
    "rail": "Rail: focal mm = setting mm",
    "kind": "Support",
    "polariser": "Polarises",
    "scale_clockwise": "Scale grows to the right",
    "filter_stops": "Takes, stops",
}
#: Facts that come from measuring.
_MEASURED = ("rail_found",)
_CHOICES = {"lens_model": MODELS, "kind": SUPPORTS}


def _title(key: str) -> str:
    if key in _FACTS:
        return _FACTS[key]
    words = key.replace("_", " ")
    for end, unit in (
        (" mm", ", mm"),
        (" px", ", px"),
        (" deg", ", degrees"),
        (" gb", ", GB"),
        (" kg", ", kg"),
        (" m", ", m"),
    ):
        if words.endswith(end):
            words = words.removesuffix(end) + unit
            break
    return words.removesuffix(" stops").capitalize() + (", stops" if words.endswith(" stops") else "")


class GearDialog(QDialog):
    """Entries by kind on the left, the facts of the chosen one on the right."""

    def __init__(self, library: Library, use: Callable[[Entry], None], parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Gear library")
        self.resize(900, 600)
        self._library, self._use = library, use
        self._shown: tuple[str, str] | None = None
        self._editors: dict[str, QWidget] = {}
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setAccessibleName("Gear by kind")
        self.tree.currentItemChanged.connect(self._chosen)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name")
        self._as_shown: list[str] = []
        self.name.textEdited.connect(self._arm)
        self.message = label("", wrap=True, name="gear-message")
        self._facts = QVBoxLayout()
        self.use_button = button("Use in this plan", self.use, main=True, name="gear-use")
        self.save_button = by_return(button("Save", self.save, name="gear-save"))
        buttons = row(
            self.use_button,
            self.save_button,
            button("Remove", self.remove, quiet=True, name="gear-remove"),
            None,
        )
        more = row(
            button("Export …", self.ask_export, name="gear-export"),
            button("Import …", self.ask_import, name="gear-import"),
            None,
            button("Close", self.accept, name="gear-close"),
        )
        right = column(form([("Name", self.name)]), self._facts, None, self.message, buttons)
        self.name.setMinimumWidth(320)
        layout = column(
            row(column(self.tree), panel(right, "ground"), space=theme.SPACE * 3),
            label("Change the name and save to keep a thing of your own beside the one it came from.", "dim"),
            more,
            margin=16,
        )
        self.tree.setFixedWidth(310)
        self.setLayout(layout)
        self.fill()

    def fill(self, chosen: tuple[str, str] | None = None) -> None:
        """Show the library's entries."""
        self.tree.clear()
        first: QTreeWidgetItem | None = None
        entries = self._library.entries()
        for kind, title in _TITLES.items():
            group = QTreeWidgetItem([title])
            group.setFlags(Qt.ItemFlag.ItemIsEnabled)
            self.tree.addTopLevelItem(group)
            for entry in (e for e in entries if e.kind == kind):
                item = QTreeWidgetItem([entry.name])
                item.setData(0, Qt.ItemDataRole.UserRole, (entry.kind, entry.name))
                group.addChild(item)
                if first is None or (entry.kind, entry.name) == chosen:
                    first = item
            group.setExpanded(True)
        if first is not None:
            self.tree.setCurrentItem(first)

    def _chosen(self, item: QTreeWidgetItem | None, before: QTreeWidgetItem | None = None) -> None:
        data = item.data(0, Qt.ItemDataRole.UserRole) if item is not None else None
        if not data or data == self._shown:
            return
        if not self._may_leave():
            QTimer.singleShot(0, lambda: self._back_to(before))  # the tree is still on its way to the other
            return
        self._show(data[0], data[1])

    def _back_to(self, item: QTreeWidgetItem | None) -> None:
        self.tree.blockSignals(True)
        self.tree.setCurrentItem(item)
        self.tree.blockSignals(False)

    # --- what was typed -----------------------------------------------------------

    def _typed(self) -> list[str]:
        """What stands in the fields."""
        found = [self.name.text()]
        for editor in self._editors.values():
            if isinstance(editor, QComboBox):
                found.append(editor.currentText())
            elif isinstance(editor, QCheckBox):
                found.append(str(editor.isChecked()))
            elif isinstance(editor, QLineEdit):
                found.append(editor.text())
        return found

    @property
    def modified(self) -> bool:
        """Whether something was typed that is not saved."""
        return self._shown is not None and self._typed() != self._as_shown

    def _arm(self) -> None:
        self.use_button.setText("Save and use in this plan" if self.modified else "Use in this plan")

    def _may_leave(self) -> bool:
        """Whether what is shown may be left: it is saved, or the person says what to do with what was typed."""
        if not self.modified:
            return True
        role = QMessageBox.ButtonRole
        answers = {
            "save": ("Save", role.AcceptRole),
            "drop": ("Throw them away", role.DestructiveRole),
            "stay": ("Go on typing", role.RejectRole),
        }
        sentence = f"Save the changes of '{self.name.text()}'?"
        answer = asked(self, QMessageBox.Icon.Question, "Not saved", sentence, answers)
        return answer == "drop" or (answer == "save" and self._put() is not None)

    def done(self, result: int) -> None:
        """Close, unless something that was typed would be lost."""
        if self._may_leave():
            super().done(result)

    def _say(self, sentence: str, *, wrong: bool = False) -> None:
        self.message.setText(sentence)
        set_look_property(self.message, "role", "warn" if wrong else "")

    def _show(self, kind: str, name: str) -> None:
        entry = self._library.get(kind, name)
        if entry is None:
            return
        self._shown = (kind, name)
        self.name.setText(name)
        self._say("")
        emptied(self._facts)
        facts, rows = facts_of(entry), []
        self._editors = {}
        measured = isinstance(entry.facts, KnownLens)
        for widget in (self.use_button, self.save_button):
            widget.setVisible(not measured)
        self.name.setReadOnly(measured)
        if isinstance(entry.facts, KnownLens):  # what was measured is not to be typed
            lines = [(title, label(text, "figure", wrap=True)) for title, text in measured_in_words(entry.facts)]
            self._facts.addWidget(panel(form([(t, w) for t, w in lines]), "ground"))
            self._as_shown = self._typed()
            return
        for fact in fields(KINDS[kind]):
            if fact.name in _MEASURED:  # told beside the setting, not typed
                continue
            editor = self._editor(fact.name, facts[fact.name])
            editor.setObjectName(f"gear-{fact.name}")
            self._editors[fact.name] = editor
            rows.append((_title(fact.name), editor))
        self._facts.addWidget(panel(form(rows), "ground"))
        self._as_shown = self._typed()
        self._arm()

    def _editor(self, key: str, value: Any) -> QWidget:
        if key in _CHOICES:
            box = Chooser()
            box.addItems(list(_CHOICES[key]))
            box.setCurrentText(value)
            box.activated.connect(self._arm)
            return box
        if isinstance(value, bool):
            check = QCheckBox("yes")
            check.setChecked(value)
            check.clicked.connect(self._arm)
            return check
        line = QLineEdit()
        line.textEdited.connect(self._arm)
        line.setProperty("kind", "figure")
        if key == "rail":
            line.setText(", ".join(f"{f:g} = {s:g}" for f, s in value))
            line.setMinimumWidth(220)
            line.setPlaceholderText("24 = 81, 70 = 96")
        else:
            line.setText(f"{value:g}")
            line.setFixedWidth(104)
        return line

    def _read(self) -> Entry:
        assert self._shown is not None
        values: dict[str, Any] = {}
        for key, editor in self._editors.items():
            if isinstance(editor, QComboBox):
                values[key] = editor.currentText()
            elif isinstance(editor, QCheckBox):
                values[key] = editor.isChecked()
            elif isinstance(editor, QLineEdit):
                values[key] = _rail(editor.text()) if key == "rail" else self._number(key, editor)
        before = self._library.get(*self._shown)
        if before is not None:  # how a setting was found stays as long as the setting does
            known = facts_of(before)
            same = [tuple(r) for r in known.get("rail", ())] == values.get("rail")
            values |= {key: known[key] for key in _MEASURED if key in known and same}
        return entry_from(self._shown[0], self.name.text().strip(), values)

    def _number(self, key: str, editor: QLineEdit) -> float | int:
        try:
            value = _reader_of(key)(editor.text())
        except LanternError as error:
            set_look_property(editor, "wrong", True)
            raise InputError(error.sentence.rstrip("."), where=_title(key)) from error
        set_look_property(editor, "wrong", False)
        return int(value) if key in ("width_px", "height_px", "bits", "exposures_each") else value

    def _try(self, run: Callable[[], None]) -> None:
        try:
            run()
        except LanternError as error:
            self._say(error.sentence, wrong=True)

    def use(self) -> None:
        """Take what is shown into the plan; what was typed is saved first."""
        changed = self.modified
        entry = self._put() if changed else None

        def run() -> None:
            used = entry if changed else self._read()
            if used is not None:
                self._use(used)
                self._say(f"{'Kept, and planned' if changed else 'Planned'} with {used.name}.")

        self._try(run)

    def save(self) -> None:
        """Keep what is shown under its name."""
        entry = self._put()
        if entry is not None:
            self._say(f"Kept: {entry.name}.")

    def _put(self) -> Entry | None:
        """Keep what is shown in the library; None where it cannot be, which is told."""
        kept: list[Entry] = []

        def run() -> None:
            entry = self._read()
            self._library.put(entry)
            kept.append(entry)
            self._as_shown = self._typed()
            self.fill((entry.kind, entry.name))

        self._try(run)
        return kept[0] if kept else None

    def remove(self) -> None:
        """Take the chosen thing out; what its fields show can be saved again at once."""

        def run() -> None:
            if self._shown is not None:
                kind, name = self._shown
                kept = None if kind == "measured-lens" else self._read()
                self._library.remove(kind, name)
                self._as_shown = self._typed()
                self.fill()
                if kept is not None:
                    self._shown = (kind, kept.name)
                self._say(f"{name} is out of the library.")

        self._try(run)

    def ask_export(self) -> None:
        """Ask for a file and write all entries to it."""
        name, _ = QFileDialog.getSaveFileName(self, "Export the gear list", "gear.json", "Gear list (*.json)")
        if name:
            self._try(lambda: write_text(Path(name), self._library.to_text()))

    def ask_import(self) -> None:
        """Ask for a file and add its entries."""
        name, _ = QFileDialog.getOpenFileName(self, "Import a gear list", "", "Gear list (*.json)")
        if name:
            self._try(lambda: self.bring(Path(name)))

    def bring(self, path: Path) -> None:
        """Add the entries of a file."""
        count = self._library.take_text(read_text(path), path.name)
        self.fill()
        self._say(f"{count} entries brought in.")


def measured_in_words(lens: KnownLens) -> list[tuple[str, str]]:
    """A measured lens line by line."""
    corner = math.hypot(lens.width, lens.height) / 2
    own = lens.for_frame(lens.width, lens.height)
    assert own is not None
    plain = replace(own, k1=0.0, k2=0.0, k3=0.0)
    bent = float(own.radius_px(plain.angle_rad(corner))) / corner - 1
    sigma = lens.focal_sigma * lens.focal_px
    lines = [
        ("Frame", f"{lens.width} × {lens.height} px" + (f", {lens.camera}" if lens.camera else "")),
        (
            "Focal length",
            f"{units.measured(lens.focal_px, sigma)} px" + (f", told as {lens.focal_mm:g} mm" if lens.focal_mm else ""),
        ),
        ("Kind", lens.model),
        ("Distortion", f"a corner lies {100 * bent:+.2f} % from where a plain lens has it".replace("-", "−")),
    ]
    if lens.corner_sigma_px:
        lines.append(("Known to", f"{lens.corner_sigma_px:.2f} px in a corner"))
    if lens.falloff is not None:
        lines.append(("Fall-off", f"a corner gets {100 * math.exp(sum(lens.falloff)):.0f} % of the light"))
    if lens.colour_shifts:
        red, blue = (corner * sum(pair) for pair in (lens.lateral_red, lens.lateral_blue))
        lines.append(("Lateral colour", f"red {red:+.1f} px, blue {blue:+.1f} px in a corner".replace("-", "−")))
    return [*lines, ("Measured", lens.measured or "not told")]


def _reader_of(key: str) -> Callable[[str], float]:
    """How a fact is read: with its unit as people write it, or without."""
    if key.endswith("_mm"):
        return units.parse_length_mm
    if key.endswith("_m"):
        return lambda text: units.parse_length_mm(text, "m") / 1000
    if key.endswith("_deg"):
        return units.parse_angle_deg
    return lambda text: units.parse_number(text, "a number", "24")


def _pieces(text: str) -> list[str]:
    """The pairs of a rail: parted by semicolons or lines, or by commas, which may be decimal signs too."""
    if re.search(r"[;\n]", text):
        parts = re.split(r"[;\n]", text)
    else:  # a comma parts where no digit follows it at once, or where all commas must
        parts = re.split(r",(?!\d)", text)
        if any(part.count("=") != 1 for part in parts if part.strip()):
            parts = text.split(",")
    return [part.strip() for part in parts if part.strip()]


def _rail(text: str) -> list[tuple[float, float]]:
    pairs = []
    for piece in _pieces(text):
        focal, equals, setting = piece.partition("=")
        if not equals:
            raise InputError(
                f"'{piece}' is no pair", where="Rail", remedy="Write focal length = setting, like 24 = 81, 70 = 96"
            )
        pairs.append((units.parse_length_mm(focal), units.parse_length_mm(setting)))
    return pairs
