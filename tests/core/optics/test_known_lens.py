"""Lenses known before the join: the open database against its published formulas, and one that the join keeps or refuses."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import lensfunpy
import numpy as np
import pytest
from PIL import Image
from tests.helpers.commands import run_command
from tests.helpers.reports import report_of
from tests.helpers.sets import FrameFiles, rms

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.frames.reading import read
from idle_lantern.core.join.pipeline import join
from idle_lantern.core.optics.database import lens_from_database
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.request.options import JoinOptions

#: A database of an invented maker: a sensor of 24 x 16 mm, polynomials of each kind.
INVENTED = """<lensdatabase version="1">
 <mount><name>Ambrel A</name></mount>
 <camera><maker>Ambrel</maker><model>Holm One</model><mount>Ambrel A</mount><cropfactor>1.5</cropfactor></camera>
 <lens><maker>Ambrel</maker><model>Holm 20mm f/2.8</model><mount>Ambrel A</mount><cropfactor>1.5</cropfactor>
  <calibration>
   <distortion model="poly3" focal="20" k1="-0.02"/>
   <tca model="poly3" focal="20" vr="1.0004" vb="0.9997" br="0.0002" bb="-0.0001"/>
   <vignetting model="pa" focal="20" aperture="8" distance="1000" k1="-0.4" k2="0.1" k3="-0.02"/>
  </calibration></lens>
 <lens><maker>Ambrel</maker><model>Holm 35mm f/2</model><mount>Ambrel A</mount><cropfactor>1.5</cropfactor>
  <calibration><distortion model="ptlens" focal="35" a="0.004" b="-0.015" c="0.003"/></calibration></lens>
 <lens><maker>Ambrel</maker><model>Holm 50mm f/2</model><mount>Ambrel A</mount><cropfactor>1.5</cropfactor></lens>
</lensdatabase>"""
WIDTH, HEIGHT = 6000, 4000
_DIAGONAL_MM = float(np.hypot(36, 24)) / 1.5


def _meta(lens: str, focal_mm: float) -> Metadata:
    return Metadata(focal_mm=focal_mm, aperture=8.0, maker="Ambrel", camera="Holm One", lens=lens)


def _database() -> lensfunpy.Database:
    return lensfunpy.Database(xml=INVENTED, load_common=False, load_bundled=False)


def _straight_and_ours(known: KnownLens, focal_mm: float) -> tuple[np.ndarray, np.ndarray]:
    """Radii that an ideal lens gives, in half heights of the frame, and where ours puts them."""
    sensor_mm = _DIAGONAL_MM * WIDTH / np.hypot(WIDTH, HEIGHT)
    focal_px = focal_mm * WIDTH / sensor_mm
    straight = np.linspace(0.02, 1.8, 60)  # the corner lies at 1.803
    lens = known.for_frame(WIDTH, HEIGHT)
    assert lens is not None
    return straight, lens.radius_px(np.arctan(straight * HEIGHT / 2 / focal_px)) / (HEIGHT / 2)


def test_the_database_is_told_in_our_numbers_as_its_formulas_say():
    """Lensfun's manual, "Distortion", "TCA" and "Vignetting": r in half the shorter side (distortion, TCA) or the half
    diagonal (fall-off); poly3 ``r (1 - k1 + k1 r^2)``, ptlens ``r (a r^3 + b r^2 + c r + 1 - a - b - c)``, poly3 for TCA
    ``b r^3 + c r^2 + v r``, pa ``1 + k1 r^2 + k2 r^4 + k3 r^6``."""
    known = lens_from_database(_meta("Holm 20mm f/2.8", 20), WIDTH, HEIGHT, _database())
    straight, ours = _straight_and_ours(known, 20)
    np.testing.assert_allclose(ours, straight * (1.02 - 0.02 * straight**2), atol=2e-5)
    half = np.hypot(WIDTH, HEIGHT) / HEIGHT
    for told, v, b in ((known.lateral_red, 1.0004, 0.0002), (known.lateral_blue, 0.9997, -0.0001)):
        np.testing.assert_allclose(told[0] + told[1] * (straight / half) ** 2, v - 1 + b * straight**2, atol=1e-6)
    rho2 = np.linspace(0, 1, 20)
    assert known.falloff is not None
    light = np.exp(known.falloff[0] * rho2 + known.falloff[1] * rho2**2)
    np.testing.assert_allclose(light, 1 - 0.4 * rho2 + 0.1 * rho2**2 - 0.02 * rho2**3, atol=0.004)
    known = lens_from_database(_meta("Holm 35mm f/2", 35), WIDTH, HEIGHT, _database())
    straight, ours = _straight_and_ours(known, 35)
    a, b, c = 0.004, -0.015, 0.003
    wanted = straight * (a * straight**3 + b * straight**2 + c * straight + 1 - a - b - c)
    # odd powers have no counterpart in ours: within a pixel of 6000
    assert np.abs(ours - wanted).max() * HEIGHT / 2 < 1.0
    # upright frames have the same lens on its side
    assert known.for_frame(HEIGHT, WIDTH) == replace(known.for_frame(WIDTH, HEIGHT), width=HEIGHT, height=WIDTH)
    assert known.for_frame(WIDTH, 3000) is None


@pytest.mark.parametrize(
    ("meta", "word"),
    [
        (_meta("Holm 50mm f/2", 50), "no figures"),
        (_meta("Something else", 24), "knows nothing of Something else"),
        (Metadata(camera="Nothing", focal_mm=20), "knows nothing of the lens of Nothing"),
        (Metadata(), "no focal length"),
    ],
)
def test_what_the_database_does_not_hold_is_one_sentence(meta: Metadata, word: str):
    with pytest.raises(InputError, match=word):
        lens_from_database(meta, WIDTH, HEIGHT, _database())


def _known(files: FrameFiles, **numbers: object) -> KnownLens:
    lens = files.lens
    facts = {
        "width": lens.width,
        "height": lens.height,
        "focal_px": lens.focal_px,
        "k1": lens.k1,
        "measured": "2026-11-02",
    }
    return KnownLens(**{**facts, **numbers})  # type: ignore[arg-type]


def test_a_known_lens_is_kept_and_a_wrong_one_told(grid_set: FrameFiles, tmp_path: Path):
    some = (*grid_set.paths[:3], *grid_set.paths[4:7])
    frames = gather(some)
    for known, kept in ((_known(grid_set), True), (_known(grid_set, k1=0.04), False)):
        solution, made = join(frames, tmp_path / "p.jpg", JoinOptions(lens=known))
        assert (solution.known == known) is kept
        lens = solution.poses.lenses[0]
        assert (lens.k1 == known.k1) is kept
        assert lens.k1 == pytest.approx(-0.05, abs=0.01)
        report = report_of(solution, made)
        assert rms(grid_set.error_px(report)) < 0.3
        assert (report["known_lens"] is not None) is kept


def test_lateral_colour_and_falloff_that_are_known_are_taken_out(grid_set: FrameFiles, tmp_path: Path):
    """Red and blue of the frames are enlarged; the picture of them is that of the frames as they were."""
    shift = {"lateral_red": (0.004, 0.001), "lateral_blue": (-0.003, 0.0)}
    shifted = []
    for path in grid_set.paths[:3]:
        picture = read(path)
        lens = grid_set.lens
        v, u = np.mgrid[: lens.height, : lens.width].astype(np.float32)
        u0, v0 = lens.principal_px
        made = picture.pixels.copy()
        for channel, (a, b) in ((0, shift["lateral_red"]), (2, shift["lateral_blue"])):
            # what stands at r (1 + a + b rho^2) belongs to r; by fixed point the other way round
            at = np.stack([u - u0, v - v0], -1)
            source = at.copy()
            for _ in range(6):
                rho2 = (source**2).sum(-1, keepdims=True) / ((lens.width**2 + lens.height**2) / 4)
                source = at / (1 + a + b * rho2)
            maps = (source + np.array([u0, v0])).astype(np.float32)
            made[..., channel] = cv2.remap(
                picture.pixels[..., channel], maps, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE
            )
        target = tmp_path / path.name.replace(".jpg", ".png")
        write(replace(picture, pixels=made), target, WriteOptions(metadata=Metadata()))
        shifted.append(target)
    plain = JoinOptions(projection="cylindrical", width_px=1000)
    solution, _ = join(gather(grid_set.paths[:3]), tmp_path / "first.png", replace(plain, lens=_known(grid_set)))
    pictures = {}
    for name, paths, known in (
        ("true", grid_set.paths[:3], _known(grid_set)),
        ("mended", shifted, _known(grid_set, **shift)),
        ("left", shifted, _known(grid_set)),
    ):
        same = replace(solution, frames=gather(paths), known=known)
        join(same.frames, tmp_path / f"{name}.png", plain, solution=same)
        with Image.open(tmp_path / f"{name}.png") as image:
            pictures[name] = np.asarray(image.convert("RGB")).astype(float)
    apart = {name: np.abs(p - pictures["true"])[20:-20, 20:-20, [0, 2]].mean() for name, p in pictures.items()}
    assert apart["mended"] < 0.5 * apart["left"]


def test_the_command_measures_keeps_and_uses_a_lens(grid_set: FrameFiles, tmp_path: Path):
    frames = [str(p) for p in (*grid_set.paths[:3], *grid_set.paths[4:7])]
    done = run_command("calibrate", "lens", *frames, "--save", "Holm wide", "--json", tmp_path / "l.json")
    assert done.returncode == 0, done.stderr
    assert "Kept in the gear library" in done.stderr
    for lens, code, word in (
        ("Holm wide", 0, ""),
        ("Nobody's", 2, "There are: Holm wide"),
        ("database", 2, "lens database knows nothing"),
    ):
        report = tmp_path / "r.json"
        done = run_command(
            "join", *frames, "--out", tmp_path / "p.jpg", "--report", report, "--lens", lens, "--width", "800"
        )
        assert done.returncode == code, done.stderr
        assert word in done.stderr
        told = json.loads(report.read_text())
        if code == 0:
            assert told["known_lens"]["source"] == "measured"
            assert told["frames"][0]["lens"]["k1"] == told["known_lens"]["k1"]
        report.unlink()
