"""The paper of a print: its size, what goes beyond it, how many sheets, and what the eye makes of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QInputDialog, QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.stages import deliver_model as model
from idle_lantern.app.stages import deliver_paper_model as paper
from idle_lantern.app.widgets.basics import column, label, panel_form
from idle_lantern.app.widgets.chooser import Chooser
from idle_lantern.app.widgets.quantity_edit import QuantityEdit
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.strict_json import read_bytes

if TYPE_CHECKING:
    from idle_lantern.core.deliver.proofing import PrinterProof


#: How a print is shown on the screen, in words; the last one asks for another profile.
PROOFS: tuple[tuple[str, str], ...] = (
    ("off", ""), ("its colours", "relative"), ("its colours and paper", "paper"), ("another profile …", "ask"),
)  # fmt: skip


class PaperForm(QWidget):
    """Every field is one of the outing's print; ``proof_changed`` tells that the print is shown otherwise on the screen."""

    proof_changed = pyqtSignal()

    def __init__(self, context: AppContext) -> None:
        super().__init__()
        self._context, self._state = context, context.state
        self.paper = Chooser()
        self.paper.setObjectName("paper")
        self.paper.setAccessibleName("Paper")
        for words, name in paper.PAPERS:
            self.paper.addItem(words, name)
        self.paper.activated.connect(lambda index: self._choose(str(self.paper.itemData(index))))
        self.width_mm = self._length("Width of the print", "width_mm", "as it fits", 10)
        self.border = self._length("Border", "border_mm", "none", 1)
        self.wrap = self._length("Wrap", "wrap_mm", "none", 5)
        self.bleed = self._length("Bleed", "bleed_mm", "none", 1)
        self.overlap = self._length("Overlap of sheets", "overlap_mm", "none", 1)
        self.sheets = QCheckBox("Over several sheets")
        self.sheets.setObjectName("sheets")
        self.sheets.clicked.connect(
            lambda on: self._apply("Over several sheets" if on else "On one piece", sheets=bool(on))
        )
        self.strip = QCheckBox("Only a test strip")
        self.strip.setObjectName("strip")
        self.strip.setToolTip(
            "The places that ask most of a print, beside each other, each as large as it will be in it"
        )
        self.strip.clicked.connect(lambda on: self._apply("A test strip" if on else "The whole print", strip=bool(on)))
        self.seen_from = self._field(
            "Seen from", paper.metres, lambda v: f"{v:g} m", 0.1, lambda v: self._apply("Seen from", seen_from_m=v)
        )
        self._profile: bytes | None = None
        #: What shows the picture as the printer will print it, None while that is off.
        self.proof: PrinterProof | None = None
        self.proofs = Chooser()
        self.proofs.setObjectName("proof")
        self.proofs.setAccessibleName("Proof on the screen")
        for words, name in PROOFS:
            self.proofs.addItem(words, name)
        self.proofs.activated.connect(lambda index: self._choose_proof(str(self.proofs.itemData(index))))
        self.proof_told = label("", "dim", wrap=True, name="proof-told")
        self.judged = label("", "figure", wrap=True, name="print-judged")
        rows: list[tuple[str, QWidget]] = [
            ("Paper", self.paper),
            ("Print width", self.width_mm),
            ("Border", self.border),
            ("Wrap", self.wrap),
            ("Bleed", self.bleed),
            ("Overlap", self.overlap),
            ("Seen from", self.seen_from),
            ("Proof", self.proofs),
        ]
        layout = column(
            label("On paper", "head"), self.sheets, self.strip, panel_form(rows), self.proof_told, self.judged
        )
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    def _length(self, title: str, name: str, nothing: str, step: float) -> QuantityEdit:
        parse, write = paper.millimetres(name, nothing)

        def submitted(value: float) -> None:
            self._apply(title, **{name: None if name == "width_mm" and not value else value})

        return self._field(title, parse, write, step, submitted)

    def _field(
        self,
        title: str,
        parse: Callable[[str], float],
        write: Callable[[float], str],
        step: float,
        submitted: Callable[[float], object],
    ) -> QuantityEdit:
        field = QuantityEdit(title, parse, write, step)

        def checked(value: float) -> None:
            try:
                submitted(parse(write(value)))  # the arrow keys know no limits
            except LanternError as error:
                self._context.tell(error.sentence)

        field.submitted.connect(checked)
        field.refused.connect(lambda sentence: self._context.tell(sentence))
        return field

    def _apply(self, title: str, **changes: object) -> None:
        self._state.apply(paper.paper_edit(self._state.outing, title, **changes))

    def _choose(self, name: str) -> None:
        if name == paper.ANOTHER:
            if self._state.may_change():
                text, yes = QInputDialog.getText(
                    self,
                    "Another paper",
                    "Its sides in millimetres (420x297), or a roll by its width (roll:610):",
                    text=self._state.outing.delivery.on_paper.paper,
                )
                try:
                    if yes:
                        self._state.apply(paper.another_paper(self._state.outing, text))
                except LanternError as error:
                    self._context.tell(error.sentence)
        elif name != self._state.outing.delivery.on_paper.paper:
            self._apply(f"Paper: {name}", paper=name)
        self.show_choices()

    def _choose_proof(self, how: str) -> None:
        """Show the print on the screen, by a printer's profile that is asked for the first time."""
        from idle_lantern.core.deliver.proofing import PrinterProof  # what proofs, which no start needs

        picture = self._state.picture
        if how == "ask" or (how and self._profile is None):
            name, _ = QFileDialog.getOpenFileName(
                self, "The printer's profile", str(Path.home()), "Colour profiles (*.icc *.icm)"
            )
            how = "relative" if how == "ask" else how
            try:
                self._profile = read_bytes(Path(name)) if name else self._profile
            except LanternError as error:
                self._context.tell(error.sentence)
        if not how or self._profile is None or picture is None:
            self._end_proof()
            return
        try:
            self.proof = PrinterProof(self._profile, picture.space, "paper" if how == "paper" else "relative")
        except LanternError as error:
            self._profile = None
            self._context.tell(error.sentence)
            self._end_proof()
            return
        share = self.proof.outside_share(picture)
        self.proof_told.setText(
            f"As {self.proof.title} prints it. {100 * share:.1f} % of the picture cannot be printed so: striped. "
            + ("Less saturation there keeps its detail." if share > 0.01 else "That is hardly seen.")
        )
        self.proofs.setCurrentIndex([name for _words, name in PROOFS].index(how))
        self.proof_told.show()
        self.proof_changed.emit()

    def _end_proof(self) -> None:
        self.proof = None
        self.proofs.setCurrentIndex(0)
        self.proof_told.hide()
        self.proof_changed.emit()

    def keep_proof(self, *, printed: bool) -> None:
        """Nothing but a print is proofed."""
        if self.proof is not None and (not printed or self._state.picture is None):
            self._end_proof()

    def show_choices(self) -> None:
        """Show what the outing has."""
        outing, joined = self._state.outing, self._state.joined
        on = outing.delivery.on_paper
        chosen = paper.paper_choice(outing.delivery)
        self.paper.setCurrentIndex(chosen)
        self.paper.setToolTip(on.paper)
        self.width_mm.show_value(on.width_mm or 0.0)
        self.border.show_value(on.border_mm)
        self.wrap.show_value(on.wrap_mm)
        self.bleed.show_value(on.bleed_mm)
        self.overlap.show_value(on.overlap_mm)
        self.seen_from.show_value(on.seen_from_m)
        self.sheets.setChecked(on.sheets)
        self.strip.setChecked(on.strip)
        self.overlap.setEnabled(on.sheets)
        for field in (self.wrap, self.bleed):
            field.setEnabled(not on.sheets)
        told, good = model.print_judged(outing, joined)
        self.judged.setText(told)
        self.judged.setProperty("kind", "figure" if good else "warn")
        self.judged.setVisible(bool(told))
