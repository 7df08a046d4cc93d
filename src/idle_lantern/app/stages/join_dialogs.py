"""Windows of their own over Join: painting on frames, and tying them by hand."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from idle_lantern.app.context import AppContext
from idle_lantern.app.masking import MaskDialog
from idle_lantern.app.stages.treatments_dialog import TreatmentsDialog, bracketed
from idle_lantern.app.tie_model import loose_frames
from idle_lantern.app.tying import TieDialog


def open_masks(context: AppContext, over: QWidget | None, closed: Callable[[], None]) -> MaskDialog | None:
    """Paint what must not show, or must; None where there is nothing to paint on."""
    state = context.state
    if not state.outing.frames_to_join() or state.place is None:
        context.tell("There are no frames to paint on. Shoot some or bring pictures in under Frames.")
        return None
    if not state.may_change():
        return None
    dialog = MaskDialog(context, state.selected_id, over)
    dialog.finished.connect(lambda _r: closed())
    dialog.show()
    dialog.activateWindow()
    return dialog


def open_treatments(context: AppContext, over: QWidget | None) -> TreatmentsDialog | None:
    """What can become of brackets, side by side; None where there are none."""
    if not bracketed(context.state.outing):
        context.tell("There are no brackets among these frames.")
        return None
    dialog = TreatmentsDialog(context, over)
    dialog.show()
    dialog.activateWindow()
    return dialog


def painting(over: QWidget | None) -> bool:
    """Whether somebody paints over a window just now."""
    return over is not None and any(d.isVisible() for d in over.findChildren(MaskDialog))


def open_ties(
    context: AppContext, over: QWidget | None, tied: Callable[[], None], frame: str | None = None
) -> TieDialog | None:
    """Tie frames by points set by hand, ``frame`` with others; ``tied`` is called when that changed anything."""
    state = context.state
    if len(state.outing.frames_to_join()) < 2 or state.place is None:
        context.tell("Two frames at least are needed to tie them. Bring pictures in under Frames.")
        return None
    if not state.may_change():
        return None
    before = state.outing.choices.points, state.outing.choices.cut_links
    loose = loose_frames(state.outing, state.joined)
    dialog = TieDialog(context, frame or (None if loose else state.selected_id), over)

    def closed(code: int) -> None:
        if (
            code == TieDialog.DialogCode.Accepted
            and (state.outing.choices.points, state.outing.choices.cut_links) != before
        ):
            tied()

    dialog.finished.connect(closed)
    dialog.show()
    dialog.activateWindow()
    return dialog
