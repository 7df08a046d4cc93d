"""A chessboard to print: drawn to size, with what to do written under it."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from fpdf import FPDF
from PIL import Image

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.atomic import write_bytes
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.papers import paper_named

#: Long and short side of papers that most printers take.
PAPERS_MM = {name: (paper_named(name).long_mm or 0.0, paper_named(name).short_mm) for name in ("a4", "a3", "letter")}
_MARGIN_MM, _TEXT_MM = 10.0, 12.0
_LEAST_SQUARE_MM = 6.0


#: Markers are of 5 x 5 modules with a rim of one, and a square is as wide as ten; each module is drawn so many pixels wide.
_MARKERS, _MARKER_MODULES, _SQUARE_MODULES, _MODULE_PX = cv2.aruco.DICT_5X5_250, 7, 10, 12
_MOST_MARKERS = 250


def fits_markers(board: tuple[int, int]) -> bool:
    """Whether there is a marker for each white square of a board."""
    return (board[0] + 1) * (board[1] + 1) // 2 <= _MOST_MARKERS


def marked_board(board: tuple[int, int]) -> cv2.aruco.CharucoBoard:
    """A board whose white squares bear markers, by its inner corners across and down; a square is 1 wide.

    Raises
    ------
    InputError
        It has more white squares than there are markers.
    """
    across, down = board[0] + 1, board[1] + 1
    markers = cv2.aruco.getPredefinedDictionary(_MARKERS)
    if not fits_markers(board):
        raise InputError("Has more squares than there are markers", where=f"{board[0]}x{board[1]}", remedy="Take fewer")
    return cv2.aruco.CharucoBoard((across, down), 1.0, _MARKER_MODULES / _SQUARE_MODULES, markers)


def marked_picture(board: tuple[int, int]) -> Array:
    """That board as a picture, (h, w) uint8, 0 or 255; its inner corners lie at the corners of pixels."""
    across, down = board[0] + 1, board[1] + 1
    picture = marked_board(board).generateImage((across * _SQUARE_MODULES, down * _SQUARE_MODULES))
    return np.kron(picture, np.ones((_MODULE_PX, _MODULE_PX), np.uint8))


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


def write_pattern(target: Path, board: tuple[int, int] = (9, 6), paper: str = "a4", *, markers: bool = False) -> float:
    """Write the board as PDF, with ``markers`` in its white squares where asked for; returns the side of a square in mm.

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
    if markers:
        pdf.image(Image.fromarray(marked_picture(board)), left, top, across * side, down * side)
    pdf.set_fill_color(0)
    for row in range(down):
        for column in range(across):
            if (row + column) % 2 == 0 and not markers:
                pdf.rect(left + column * side, top + row * side, side, side, "F")
    pdf.set_font("helvetica", size=9)
    pdf.set_xy(_MARGIN_MM, height - _TEXT_MM)
    pdf.cell(
        text=f"{board[0]} x {board[1]} inner corners, squares of {side:g} mm. Print without scaling, glue it to something flat, "
        "take ten pictures or more, tilted, out to the corners of the frame."
    )
    write_bytes(target, bytes(pdf.output()))
    return side
