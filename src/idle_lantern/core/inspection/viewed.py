"""What of a joined picture somebody has looked at, at 100 %: part by part, so that nothing was unseen.

What was seen is kept by what each tile was made from. A picture made again after a stroke of paint has a few new tiles; those were not
seen, all others were.
"""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

import numpy as np

from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.render.rework import EarlierPicture
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.pictures.source import TILE

SCHEMA = "idle-lantern/seen/1"
#: Side of what is seen or not, and how many of it make a tile along each side. No view is lower than this: each step of the
#: walk sees a row of them whole.
CELL = 64
_EACH = TILE // CELL
#: The map shows no finer than this many rows, and no piece wider than this.
_MAP_ROWS, _MAP_RUN = 48, 32


class Seen:
    """The cells of a picture and which were seen; ``wanted`` is what of it is to be delivered.

    ``tiles`` names what each tile was made from, row by row.
    """

    def __init__(self, size: tuple[int, int], tiles: tuple[str, ...], wanted: Rectangle) -> None:
        self.size = size
        self._tiles = tiles
        columns, rows = (-(-side // CELL) for side in size)
        self.cells = np.zeros((rows, columns), bool)
        self.want(wanted)

    def want(self, wanted: Rectangle) -> None:
        """Take another part of the picture for what is to be delivered."""
        self.wanted = np.zeros_like(self.cells)
        if wanted.width and wanted.height:
            last_row, last_column = (wanted.top + wanted.height - 1) // CELL, (wanted.left + wanted.width - 1) // CELL
            self.wanted[wanted.top // CELL : last_row + 1, wanted.left // CELL : last_column + 1] = True

    @staticmethod
    def of(picture: Path, size: tuple[int, int], wanted: Rectangle, kept: Path | None = None) -> Seen:
        """What was seen of a picture on disk, as far as ``kept`` tells; a file that cannot be read tells nothing."""
        earlier = EarlierPicture.open(picture)
        count = -(-size[0] // TILE) * -(-size[1] // TILE)
        if earlier is not None and len(earlier.made.tiles) == count:
            tiles = earlier.made.tiles
        else:  # one that does not tell is another one whenever it was written anew
            stat = picture.stat()
            tiles = tuple(f"{stat.st_mtime_ns:x}-{i}" for i in range(count))
        seen = Seen(size, tiles, wanted)
        if kept is not None:
            with contextlib.suppress(OSError, ValueError, TypeError, AttributeError):
                seen._take(json.loads(kept.read_text("utf-8"))["tiles"])
        return seen

    def look(self, left: float, top: float, right: float, bottom: float) -> bool:
        """Take what lies wholly in a rectangle of the picture for seen; whether any of it was not before."""
        width, height = self.size
        # half a pixel of a view that ends between two is no matter
        first = [int(np.ceil((at - 0.5) / CELL)) for at in (max(0.0, top), max(0.0, left))]
        rows, columns = self.cells.shape
        last_row = rows if bottom >= height - 0.5 else int((bottom + 0.5) // CELL)
        last_column = columns if right >= width - 0.5 else int((right + 0.5) // CELL)
        part = self.cells[first[0] : last_row, first[1] : last_column]
        if part.all():
            return False
        part[...] = True
        return True

    @property
    def share(self) -> float:
        """Share of what is wanted that was seen."""
        wanted = int(self.wanted.sum())
        return float((self.cells & self.wanted).sum() / wanted) if wanted else 1.0

    def next_part(self, width: float, height: float) -> tuple[float, float] | None:
        """Middle of the next part to look at through a view of that size in pixels; None where all was seen.

        From the top down in bands as high as the view, each from left to right.
        """
        left = self.wanted & ~self.cells
        if not left.any():
            return None
        top = int(np.flatnonzero(left.any(1))[0])
        band = left[top : top + max(1, int(height) // CELL)]
        column = int(np.flatnonzero(band.any(0))[0])
        return column * CELL + width / 2, top * CELL + height / 2

    def save(self, kept: Path) -> None:
        """Keep what was seen.

        Raises
        ------
        InputError
            The file cannot be written.
        """
        rows, columns = (-(-side // _EACH) * _EACH for side in self.cells.shape)
        padded = np.zeros((rows, columns), bool)
        padded[: self.cells.shape[0], : self.cells.shape[1]] = self.cells
        tiles = padded.reshape(rows // _EACH, _EACH, columns // _EACH, _EACH).swapaxes(1, 2).reshape(-1, _EACH * _EACH)
        told = {name: np.packbits(bits).tobytes().hex() for name, bits in zip(self._tiles, tiles) if bits.any()}
        write_text(kept, json.dumps({"schema": SCHEMA, "tiles": told}))

    def _take(self, told: dict[str, str]) -> None:
        across = -(-self.size[0] // TILE)
        for i, name in enumerate(self._tiles):
            bits = bytes.fromhex(told.get(name, ""))
            if len(bits) != _EACH * _EACH // 8:
                continue
            seen = np.unpackbits(np.frombuffer(bits, np.uint8)).reshape(_EACH, _EACH).astype(bool)
            place = self.cells[i // across * _EACH :, i % across * _EACH :][:_EACH, :_EACH]
            place |= seen[: place.shape[0], : place.shape[1]]

    def unseen_on_map(self, canvas: Canvas) -> list[list[tuple[float, float]]]:
        """Outlines (yaw, pitch in degrees) of what was not seen yet, in pieces: empty while nothing was seen."""
        if not (self.cells & self.wanted).any():
            return []
        left = self.wanted & ~self.cells
        step = -(-left.shape[0] // _MAP_ROWS)
        shapes = []
        for row in range(0, left.shape[0], step):
            open_ = left[row : row + step].any(0)
            ends = np.flatnonzero(np.diff(np.concatenate([[0], open_.astype(np.int8), [0]])))
            for start, end in zip(ends[::2], ends[1::2]):
                for at in range(int(start), int(end), _MAP_RUN * step):
                    until = min(int(end), at + _MAP_RUN * step)
                    box = (at * CELL, row * CELL, until * CELL, (row + step) * CELL)
                    shapes.append(_outline(canvas, box, self.size))
        return [shape for shape in shapes if shape]


def _outline(canvas: Canvas, box: tuple[int, int, int, int], size: tuple[int, int]) -> list[tuple[float, float]]:
    """A rectangle of the picture as directions, in degrees; its corners and a few places between them."""
    left, top, right, bottom = box
    across = np.linspace(left, min(right, size[0] - 1), 5)
    down = np.linspace(top, min(bottom, size[1] - 1), 3)
    rim = [(u, down[0]) for u in across] + [(across[-1], v) for v in down[1:]]
    rim += [(u, down[-1]) for u in across[::-1][1:]] + [(across[0], v) for v in down[::-1][1:-1]]
    rays = canvas.directions(np.array(rim, float))
    if not np.isfinite(rays).all():
        return []
    azimuth, altitude = azimuth_altitude(rays)
    return list(zip(np.degrees(np.unwrap(azimuth)).tolist(), np.degrees(altitude).tolist()))
