"""A chessboard to print: drawn to size, with what to do written under it."""

from __future__ import annotations

from pathlib import Path

from fpdf import FPDF

from idle_lantern.core.base.atomic import write_bytes
from idle_lantern.core.base.errors import InputError

#: Long and short side (ISO 216; ANSI/ASME Y14.1).
PAPERS_MM = {"a4": (297.0, 210.0), "a3": (420.0, 297.0), "letter": (279.4, 215.9)}
_MARGIN_MM, _TEXT_MM = 10.0, 12.0
_LEAST_SQUARE_MM = 6.0


def square_mm(board: tuple[int, int], paper: str) -> float:
    """The side of a square that fits the paper, whole millimetres.

    Raises
    ------
    InputError
        So many squares would be too small to print sharp.
    """
    width, height = PAPERS_MM[paper]
    # a white rim of a square round the board lets the outer corners be found
    across, down = board[0] + 1 + 1, board[1] + 1 + 1
    side = int(min((width - 2 * _MARGIN_MM) / across, (height - 2 * _MARGIN_MM - _TEXT_MM) / down))
    if side < _LEAST_SQUARE_MM:
        raise InputError(
            f"A board of {board[0]} x {board[1]} inner corners has squares of {side} mm on {paper.upper()}",
            remedy="Take fewer corners, or larger paper",
        )
    return float(side)


def write_pattern(target: Path, board: tuple[int, int] = (9, 6), paper: str = "a4") -> float:
    """Write the board as PDF; returns the side of a square in mm.

    Raises
    ------
    InputError
        It does not fit, or the file cannot be written.
    """
    side = square_mm(board, paper)
    width, height = PAPERS_MM[paper]
    pdf = FPDF("L", "mm", (height, width))
    pdf.set_margin(0)
    pdf.set_auto_page_break(False)
    pdf.set_creator("Idle Lantern")
    pdf.add_page()
    across, down = board[0] + 1, board[1] + 1
    left, top = (width - across * side) / 2, (height - _TEXT_MM - down * side) / 2
    pdf.set_fill_color(0)
    for row in range(down):
        for column in range(across):
            if (row + column) % 2 == 0:
                pdf.rect(left + column * side, top + row * side, side, side, "F")
    pdf.set_font("helvetica", size=9)
    pdf.set_xy(_MARGIN_MM, height - _TEXT_MM)
    pdf.cell(
        text=f"{board[0]} x {board[1]} inner corners, squares of {side:g} mm. Print without scaling, glue it to something flat, "
        "take ten pictures or more, tilted, out to the corners of the frame."
    )
    write_bytes(target, bytes(pdf.output()))
    return side
