"""One wide frame against the joined picture: found where it looked, drawn where the canvas has it, and measured as it was made."""

from __future__ import annotations

import math
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
import pytest
from skimage import data

from idle_lantern.core.advice.single_figures import Against, background, compared
from idle_lantern.core.advice.single_frame import FrameOnCanvas, SingleFrame, placed_frame, seen_by
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.source import HeldPicture, region

_ACROSS_DEG = 50.0
_TURN_DEG = (4.0, -3.0, 2.0)


@lru_cache(maxsize=1)
def photograph() -> np.ndarray:
    """Natural detail (coffee, astronaut and a cat side by side, of skimage), as a joined picture would show it."""
    parts = [cv2.resize(p, (640, 640)) for p in (data.coffee(), data.astronaut(), data.chelsea())]
    return np.ascontiguousarray(np.hstack(parts))


def canvas() -> Canvas:
    h, w = photograph().shape[:2]
    return Canvas(Projection("cylindrical"), w, h, w / math.radians(_ACROSS_DEG), ((w - 1) / 2, (h - 1) / 2))


def frame_of(picture: np.ndarray, width: int = 600, field_deg: float = 62.0) -> tuple[np.ndarray, Lens]:
    """What a lens without faults sees of it, black beyond; by OpenCV, with pixels as wide as they are."""
    lens = Lens("rectilinear", width / 2 / math.tan(math.radians(field_deg / 2)), width, round(width / 1.5))
    fine = Lens("rectilinear", lens.focal_px * 3, lens.width * 3, lens.height * 3)
    grid = np.stack(np.meshgrid(np.arange(fine.width, dtype=float), np.arange(fine.height, dtype=float)), -1)
    turn = rotations.from_yaw_pitch_roll(*np.radians(_TURN_DEG))
    places = canvas().pixels(fine.unproject(grid) @ turn.T).astype(np.float32)
    drawn = cv2.remap(picture, places, None, cv2.INTER_LINEAR, borderValue=(0, 0, 0))
    return cv2.resize(drawn, (lens.width, lens.height), interpolation=cv2.INTER_AREA), lens


@pytest.fixture(scope="module")
def placed(tmp_path_factory: pytest.TempPathFactory) -> SingleFrame:
    pixels, _lens = frame_of(photograph())
    path = tmp_path_factory.mktemp("single") / "wide.jpg"
    write(Picture(pixels), path, WriteOptions(jpeg_quality=95))
    return placed_frame(path, HeldPicture(Picture(photograph())), canvas())


def test_a_frame_without_metadata_is_found_where_it_looked(placed: SingleFrame):
    _pixels, lens = frame_of(photograph())
    truth = rotations.from_yaw_pitch_roll(*np.radians(_TURN_DEG))
    assert math.degrees(float(rotations.angle_between(truth, placed.world_from_camera))) < 0.02
    assert placed.lens.focal_px == pytest.approx(lens.focal_px, rel=3e-3)
    assert placed.rms_px < 1


def test_it_is_drawn_where_the_canvas_has_it_on_every_level(placed: SingleFrame):
    joined = HeldPicture(Picture(photograph()))
    laid = FrameOnCanvas(placed, canvas(), joined)
    assert laid.sizes == joined.sizes
    for level, (w, h) in enumerate(joined.sizes):
        shown = region(laid, Rectangle(0, 0, w, h), level)
        wanted = region(joined, Rectangle(0, 0, w, h), level)
        inside = cv2.erode(shown[..., 3], np.ones((9, 9))) > 0
        assert inside.mean() > 0.5
        # the frame has a third of the pixels: what it cannot show is taken off the picture before they are compared
        scale = 3.2 / 2**level
        soft = cv2.GaussianBlur(wanted.astype(np.float32), (0, 0), max(0.1, scale))
        other = cv2.GaussianBlur(shown[..., :3].astype(np.float32), (0, 0), max(0.1, scale))
        assert np.abs(soft - other)[inside].mean() < 2.5


def test_figures_are_those_it_was_made_with(placed: SingleFrame):
    against = compared(placed, HeldPicture(Picture(photograph())), canvas())
    assert against.field_deg[0] == pytest.approx(62, abs=0.3)
    assert against.joined_field_deg[0] == pytest.approx(_ACROSS_DEG, abs=0.1)
    assert against.px_per_deg == pytest.approx(math.radians(600 / 2 / math.tan(math.radians(31))), rel=0.01)
    assert against.softer_share < 0.05
    assert against.blur_deg is None or against.joined_blur_deg is None or against.blur_deg > against.joined_blur_deg


@pytest.mark.parametrize("blur_px", [2.0, 4.0])
def test_a_softer_background_is_told_by_how_much(placed: SingleFrame, blur_px: float):
    """The right half of the joined picture blurred by a known Gaussian, in pixels of the frame."""
    sharp = photograph()
    scale = canvas().px_per_rad / placed.lens.focal_px
    soft = cv2.GaussianBlur(sharp, (0, 0), blur_px * scale)
    half = sharp.shape[1] // 2
    both = np.ascontiguousarray(np.hstack([sharp[:, :half], soft[:, half:]]))
    share, told = background(*seen_by(placed, HeldPicture(Picture(both)), canvas(), 1600))
    assert share == pytest.approx(0.5, abs=0.15)
    assert told == pytest.approx(blur_px, rel=0.3)


def test_another_place_is_refused_in_a_sentence(tmp_path: Path):
    path = tmp_path / "elsewhere.png"
    write(Picture(np.dstack([data.brick()] * 3)), path)
    with pytest.raises(InputError, match=r"elsewhere\.png.* shows nothing that the joined picture shows"):
        placed_frame(path, HeldPicture(Picture(photograph())), canvas())


def test_the_answer_is_a_sentence():
    gained = Against((40, 27), (120, 40), 24, 160, 100, 150, 0.01, 0.005, 0.3, 0.02)
    assert gained.sentence() == (
        "Against one frame the join gained 4.4 times the field, detail 2.0 times as fine and a softer background over 30 % of the frame."
    )
    nothing = Against((40, 27), (41, 27), 24, 25, 100, 100, None, None, 0.0, 0.0)
    assert "gained nothing" in nothing.sentence()
    assert [title for title, *_ in gained.rows()] == ["Field", "Pixels", "Resolution", "Edges", "Background"]
