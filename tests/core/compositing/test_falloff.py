"""Light of the frames, told from their overlaps."""

from __future__ import annotations

import numpy as np
import pytest
from tests.reference.photographs import band

from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.compositing.canvas.overview import Overview, Patch
from idle_lantern.core.compositing.light import vignetting
from idle_lantern.core.compositing.light.vignetting import solve_vignetting
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import Projection

SIDE, STEP = (240, 330), 110


def _row_of(seed: int, corner: float, noise: float = 6) -> Overview:
    """Patches of a row of photographs, each with its own noise, with so much light left at the corner."""
    rng = np.random.default_rng(seed)
    picture = band()[50:380]
    height, width = len(picture), picture.shape[1]
    lens = Lens("rectilinear", 300, *SIDE)
    patches = []
    for i, left in enumerate(range(0, width - SIDE[0], STEP)):
        columns = np.arange(left, left + SIDE[0])
        v, u = np.mgrid[: SIDE[1], : SIDE[0]] - (np.array(SIDE[::-1])[:, None, None] - 1) / 2
        radius2 = ((u**2 + v**2) * 4 / (lens.width**2 + lens.height**2)).astype(np.float32)
        light = (picture[:, columns] / 255.0) ** 2.2 * np.exp(np.log(corner) * radius2)[..., None]
        seen = 255 * light ** (1 / 2.2) + rng.normal(0, noise, light.shape)
        pixels = np.clip(np.rint(seen), 0, 255).astype(np.uint8)
        inside = np.ones(pixels.shape[:2], bool)
        patches.append(Patch(i, columns, 0, pixels, inside, inside.astype(np.float32), radius2, None))
    canvas = Canvas(Projection("cylindrical"), width, height, 300.0, (0.0, 0.0))
    return Overview(canvas, tuple(patches))


def test_photographs_without_fall_off_show_none(monkeypatch: pytest.MonkeyPatch):
    """Noise and texture pass for so little of a darker corner that frames are not changed for it."""
    noticeable = vignetting._NOTICEABLE
    monkeypatch.setattr(vignetting, "_NOTICEABLE", 0.0)
    told = [sum(solve_vignetting(overview, len(overview.patches))) for overview in (_row_of(s, 1.0) for s in range(6))]
    assert np.sqrt(np.mean(np.square(told))) < 0.6 * noticeable
