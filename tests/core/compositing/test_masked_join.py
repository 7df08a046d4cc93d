"""Painted masks: what is hidden never shows, what is kept does."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageDraw
from tests.helpers.sets import FrameFiles

from idle_lantern.cli.main import main
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.frames.frameset import gather, pictures_in
from idle_lantern.core.frames.masks import (
    HIDE_COLOUR,
    KEEP_COLOUR,
    Mask,
    mask_path,
    of_painting,
    read_mask,
    write_mask,
)
from idle_lantern.core.registration.solve.solve import Solution, solve


@pytest.fixture(scope="module")
def solution(row_set: FrameFiles) -> Solution:
    return solve(gather(row_set.paths[:3]))


def _mask(hide: tuple[int, int, int, int] | None = None, keep: tuple[int, int, int, int] | None = None) -> Mask:
    """Boxes (left, top, right, bottom) of a frame of 480 x 680 at half its size."""
    areas = []
    for box in (hide, keep):
        area = np.zeros((340, 240), np.uint8)
        if box is not None:
            area[box[1] // 2 : box[3] // 2, box[0] // 2 : box[2] // 2] = 255
        areas.append(area)
    return Mask(*areas)


def _place(solution: Solution, canvas, k: int, x: float, y: float) -> tuple[int, int]:
    """Row and column of the canvas that show pixel (x, y) of frame k."""
    i = solution.poses.index(k)
    ray = solution.poses.lenses[i].unproject(np.array([x, y], float)) @ solution.poses.world_from_camera[i].T
    u, v = canvas.pixels(ray)
    return round(float(v)), round(float(u))


def _winner(joined, row: int, column: int) -> int:
    h, w = joined.label.shape
    at = int((row + 0.5) / joined.canvas.height * h), int((column + 0.5) / joined.canvas.width * w)
    return int(joined.label[at])


def test_hidden_parts_come_from_the_neighbour(solution: Solution):
    """Right third of frame 0, which frame 1 shows too; left of that only frame 0 shows anything."""
    canvas = make_canvas(solution.poses, solution.seen)
    shared, alone = _place(solution, canvas, 0, 380, 340), _place(solution, canvas, 0, 60, 340)
    free = compose_picture(solution, canvas)
    both = compose_picture(solution, canvas, masks={0: _mask(hide=(0, 240, 480, 440))})
    assert both.picture.alpha is not None
    assert both.picture.alpha[shared] == 255
    assert _winner(both, *shared) == 1
    assert both.picture.alpha[alone] == 0, "what no frame may show stays empty"
    assert free.picture.alpha is not None
    assert free.picture.alpha[alone] == 255
    far = _place(solution, canvas, 2, 300, 340)
    np.testing.assert_array_equal(both.picture.pixels[far], free.picture.pixels[far])


def test_kept_parts_win_against_a_better_placed_frame(solution: Solution):
    """The rim of frame 0 would lose to frame 1; kept, it wins, and two who both keep do not fail."""
    canvas = make_canvas(solution.poses, solution.seen)
    rim = _place(solution, canvas, 0, 455, 340)
    assert _winner(compose_picture(solution, canvas), *rim) == 1
    keep = _mask(keep=(400, 280, 480, 400))
    assert _winner(compose_picture(solution, canvas, masks={0: keep}), *rim) == 0
    everything = _mask(keep=(0, 0, 480, 680))
    joined = compose_picture(solution, canvas, masks={0: everything, 1: everything})
    assert _winner(joined, *rim) == 1, "of two that must show, the better placed"
    shown = compose_picture(solution, canvas).picture.alpha
    assert joined.picture.alpha is not None
    np.testing.assert_array_equal(joined.picture.alpha, shown)


def test_masks_are_paintings_of_any_size(tmp_path: Path):
    image = Image.new("RGB", (120, 170), "white")
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, 39, 169), fill="red")
    draw.rectangle((80, 0, 119, 169), fill=(0, 255, 0))
    image.save(mask_path(tmp_path, "f1.jpg"))
    Image.new("RGB", (10, 10), "white").save(mask_path(tmp_path, "f2.jpg"))
    assert not read_mask(mask_path(tmp_path, "f2.jpg")).keep.any(), "a mask without paint is none"
    found = read_mask(mask_path(tmp_path, "f1.jpg"), (1200, 1700))
    with pytest.raises(InputError, match="120 x 170 pixels, and its frame has 1700 x 1200"):
        read_mask(mask_path(tmp_path, "f1.jpg"), (1700, 1200))
    assert (found.hide > 0).mean() == pytest.approx(1 / 3, abs=0.01)
    assert (found.keep[:, 85:] > 0).all()
    write_mask(found, tmp_path / "again.mask.png")
    again = read_mask(tmp_path / "again.mask.png")
    np.testing.assert_array_equal(again.hide, found.hide)
    np.testing.assert_array_equal(again.keep, found.keep)
    painting = np.asarray(Image.open(tmp_path / "again.mask.png"))
    assert {tuple(c) for c in painting[painting[..., 3] > 0][:, :3].tolist()} == {HIDE_COLOUR, KEEP_COLOUR}
    assert (painting[(found.hide == 0) & (found.keep == 0)][:, 3] == 0).all(), "the ground is see-through"
    (tmp_path / "bad.mask.png").write_bytes(b"nothing")
    with pytest.raises(InputError, match="no mask"):
        read_mask(tmp_path / "bad.mask.png")
    assert pictures_in(tmp_path) == [], "masks are no frames"


@pytest.mark.parametrize(
    ("colour", "hides", "keeps"),
    [
        ((0, 0, 0), True, False),
        ((60, 0, 90), True, False),
        ((255, 255, 255), False, True),
        ((250, 220, 160), False, True),
        ((128, 128, 128), False, False),
        ((255, 0, 0), True, False),  # as older masks were painted
        ((0, 255, 0), False, True),
    ],
)
def test_tone_tells_what_is_hidden_and_kept(tmp_path: Path, colour: tuple[int, int, int], hides: bool, keeps: bool):
    rgba = np.zeros((40, 60, 4), np.uint8)
    rgba[10:20, 10:30] = (*colour, 255)
    rgba[30:35, 10:30] = (*colour, 60)  # hardly there
    mask = of_painting(rgba)
    assert (bool(mask.hide.any()), bool(mask.keep.any())) == (hides, keeps)
    assert int((mask.hide > 0).sum() + (mask.keep > 0).sum()) == (200 if hides or keeps else 0)


def test_what_is_hidden_and_kept_differs_in_print_and_to_the_colour_blind():
    """The two paints differ by more than half of the scale of brightness (ITU-R BT.601)."""
    dark, light = (0.299 * r + 0.587 * g + 0.114 * b for r, g, b in (HIDE_COLOUR, KEEP_COLOUR))
    assert light - dark > 150


def test_the_command_obeys_masks(row_set: FrameFiles, tmp_path: Path, capsys: pytest.CaptureFixture[str]):
    write_mask(_mask(hide=(0, 240, 480, 440)), mask_path(tmp_path, row_set.paths[0].name))
    out = tmp_path / "o.png"
    arguments = ["join", *map(str, row_set.paths[:2]), "--out", str(out), "--masks"]
    assert main([*arguments, str(tmp_path)]) == 0
    alpha = np.asarray(Image.open(out))[..., 3]
    assert alpha[alpha.shape[0] // 2, 40] == 0
    empty = tmp_path / "empty"
    empty.mkdir()
    assert main([*arguments, str(empty)]) == 2
    assert "f00.mask.png" in capsys.readouterr().err
