"""Cube faces and looking around, against the directions themselves, and against scikit-image's sampling."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from skimage.transform import warp
from tests.helpers.spheres import ball, pattern, sphere_pixels

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.deliver.ball import Ball, canvas_of_sphere
from idle_lantern.core.deliver.cube import FACES, cube_files, face_px, write_cube
from idle_lantern.core.deliver.look_around import HeldSphere
from idle_lantern.core.deliver.sight import Sight
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.geometry.projections import Projection
from idle_lantern.core.pictures.source import HeldPicture


def rays_of(sight: Sight, size: tuple[int, int]) -> np.ndarray:
    """Directions (h, w, 3) of a view, by azimuth and altitude turned one after the other."""
    y, p = np.radians(sight.yaw_deg), np.radians(sight.pitch_deg)
    about_y = np.array([[np.cos(y), 0, np.sin(y)], [0, 1, 0], [-np.sin(y), 0, np.cos(y)]])
    about_x = np.array([[1, 0, 0], [0, np.cos(p), -np.sin(p)], [0, np.sin(p), np.cos(p)]])
    f = max(size) / 2 / np.tan(np.radians(sight.field_deg) / 2)
    u, v = np.meshgrid(np.arange(size[0]) - (size[0] - 1) / 2, np.arange(size[1]) - (size[1] - 1) / 2)
    return np.dstack([u / f, v / f, np.ones_like(u)]) @ (about_y @ about_x).T


@pytest.mark.parametrize("ending", [".png", ".tif"])
def test_six_faces_show_what_lies_in_their_directions(tmp_path: Path, ending: str):
    sphere = ball()
    first = write_cube(sphere, tmp_path / f"cube{ending}", WriteOptions(alpha=False))
    files = cube_files(tmp_path / f"cube{ending}")
    assert first == files[0]
    assert [f.stem for f in files] == [f"cube_{face.name}" for face in FACES]
    side = face_px(sphere.px_per_rad)
    assert side == round(2 * 1600 / (2 * np.pi))  # nothing lost: half a side for a radian in the middle
    x = (np.arange(side) + 0.5) * 2 / side - 1
    across, down = np.meshgrid(x, x)
    for face, file in zip(FACES, files):
        with Image.open(file) as image:
            found = np.asarray(image.convert("RGB"), float)
        meant = pattern(np.dstack([across, down, np.ones_like(across)]) @ face.world_from_face.T)
        assert np.abs(found - meant).max() < 2.5, face.name


def test_faces_fit_together_and_are_no_mirror():
    for face in FACES:
        assert np.linalg.det(face.world_from_face) == pytest.approx(1)
    outwards = {face.name: face.world_from_face[:, 2] for face in FACES}
    assert outwards["front"] @ [0, 0, 1] == outwards["right"] @ [1, 0, 0] == outwards["up"] @ [0, -1, 0] == 1


def test_looking_around_shows_each_direction():
    held, size = HeldSphere(ball(), SRGB), (320, 200)
    for sight in (Sight(0, 0, 75), Sight(179, 10, 90), Sight(-120, -88, 100), Sight(45, 35, 120), Sight(10, 89, 60)):
        meant = pattern(rays_of(sight, size))
        assert np.abs(held.quick(sight, size) - meant).max() < 4, sight
        assert np.abs(held.sharp(sight, size) - meant).max() < 4, sight


def test_a_view_is_what_another_library_samples():
    """scikit-image's ``warp`` by cubic splines, at places that plain trigonometry gives, away from the seam."""
    sight, size = Sight(25, -15, 70), (240, 160)
    rays = rays_of(sight, size)
    picture = sphere_pixels(1600)
    u = (np.arctan2(rays[..., 0], rays[..., 2]) / (2 * np.pi) + 0.5) * 1600 - 0.5
    v = (np.arctan2(rays[..., 1], np.hypot(rays[..., 0], rays[..., 2])) / np.pi + 0.5) * 800 - 0.5
    by_skimage = np.dstack(
        [warp(picture[..., c].astype(float), np.array([v, u]), order=3, preserve_range=True) for c in range(3)]
    )
    found = HeldSphere(ball(), SRGB).sharp(sight, size)
    assert np.abs(found - by_skimage).max() <= 1.0


def test_a_part_of_a_sphere_is_looked_at_within_what_it_shows():
    scale = 600.0
    canvas = Canvas(Projection("cylindrical"), 1200, 500, scale, (599.5, 249.5))
    u, v = np.meshgrid(np.arange(1200.0), np.arange(500.0))
    pixels = np.rint(pattern(canvas.directions(np.stack([u, v], -1)))).astype(np.uint8)
    part = Ball(HeldPicture(Picture(pixels)), canvas)
    shown = part.shown()
    half = np.degrees(600 / scale)
    assert shown.yaw_deg == pytest.approx((-half, half), abs=3)
    held = HeldSphere(part, SRGB)
    assert held.limits.held(170, 0, 75).yaw_deg == pytest.approx(half, abs=3)
    size = (200, 120)
    meant = pattern(rays_of(Sight(20, 5, 30), size))
    assert np.abs(held.sharp(Sight(20, 5, 30), size) - meant).max() < 4


def test_a_seam_behind_is_where_the_part_looks_that_lies_behind():
    scale = 500.0
    behind = np.diag([-1.0, 1.0, -1.0])
    canvas = Canvas(Projection("cylindrical"), 1000, 300, scale, (499.5, 149.5), behind)
    part = Ball(HeldPicture(Picture(np.full((300, 1000, 3), 90, np.uint8))), canvas)
    low, high = part.shown().yaw_deg or (0, 0)
    assert low < 180 < high or low < -180 < high
    assert abs(abs(part.shown().middle_deg[0]) - 180) < 2


def test_a_picture_of_no_known_direction_is_refused():
    with pytest.raises(InputError, match="not twice as wide as high"):
        canvas_of_sphere(None, (1000, 400))
