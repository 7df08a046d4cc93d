"""Whole joins of rendered sets, against the simulator's truth."""

from __future__ import annotations

import json
import math
import shutil
from pathlib import Path
from types import SimpleNamespace

import cv2
import numpy as np
import pytest
import tifffile
from PIL import ExifTags, Image
from tests.helpers.reports import report_of, typed
from tests.helpers.sets import FrameFiles, render, rms

from idle_lantern.core.base.errors import Cancelled, InputError, JoinError
from idle_lantern.core.base.progress import Silent
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.compositing.canvas.canvas import make_canvas
from idle_lantern.core.compositing.render.compose import compose_picture
from idle_lantern.core.frames.frameset import gather
from idle_lantern.core.frames.reading import probe, read, read_again
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.join.pipeline import join
from idle_lantern.core.join.report import FrameRow, Report
from idle_lantern.core.join.report_reading import canvas_of, solution_of
from idle_lantern.core.registration.solve.prior import prior_for, prior_text, read_prior
from idle_lantern.core.registration.solve.solve import solve
from idle_lantern.core.request.options import JoinOptions
from idle_lantern.simulator.camera import SCENE_EV, CameraSettings
from idle_lantern.simulator.diorama import ambrel_holm
from idle_lantern.simulator.truth import ideal_canvas, registration_error_px

#: The issue asks for 0.5 px; fine registration gives far less, and this keeps it so.
PROMISED_PX = 0.05


def _joined(files: FrameFiles, folder: Path, on_looked=None, **options):
    solution, made = join(gather(files.paths), folder / "out.tif", JoinOptions(**options), on_looked=on_looked)
    joined = SimpleNamespace(canvas=made.canvas, crop=made.crop, picture=read(folder / "out.tif"))
    return report_of(solution, made), joined


def test_row_registers_exactly_and_shows_the_true_picture(row_set: FrameFiles, tmp_path: Path):
    report, joined = _joined(row_set, tmp_path)
    errors = row_set.error_px(report)
    assert all(f["used"] for f in report["frames"])
    assert rms(errors) < PROMISED_PX
    assert errors.max() < 0.3
    focal = report["frames"][0]["lens"]["focal_px"]
    assert focal == pytest.approx(row_set.lens.focal_px, rel=1e-3)

    # the picture itself: drawn straight from the scene onto the same canvas, one gain per channel
    canvas = canvas_of(typed(report))
    first = np.array(report["frames"][0]["pose"]["rotation"])
    true_world_from_world = row_set.cameras[0] @ first.T
    ideal = ideal_canvas(
        row_set.scene,
        canvas.projection,
        (canvas.height, canvas.width),
        canvas.px_per_rad,
        canvas.centre_px,
        canvas.canvas_from_world @ true_world_from_world.T,
    )
    inside = cv2.erode((joined.picture.alpha > 0).astype(np.uint8), np.ones((9, 9))) > 0
    shown = SRGB.to_linear(joined.picture.pixels.astype(np.float32) / 255)
    ideal = np.clip(ideal, 0, 1)
    usable = inside[..., None] & (ideal < 0.95) & (ideal > 0.01)
    gain = [np.median(shown[..., c][usable[..., c]] / ideal[..., c][usable[..., c]]) for c in range(3)]
    expected = SRGB.from_linear(np.clip(ideal * np.array(gain, np.float32), 0, 1))
    error = (joined.picture.pixels / 255.0 - expected)[inside]
    psnr = -10 * math.log10(float((error**2).mean()))
    assert psnr > 30, f"PSNR {psnr:.1f} dB"


def test_fisheye_sphere_without_being_told(sphere_set: FrameFiles, tmp_path: Path):
    """The metadata say only a focal length; the matches tell that it is a fisheye. Nothing is cut off, nothing suspected."""
    looked = []
    report, joined = _joined(sphere_set, tmp_path, looked.append)
    assert [s for s in looked[0].suspects if s.suspicion > 0.5] == []
    assert joined.crop == Rectangle(0, 0, joined.canvas.width, joined.canvas.height)
    assert report["frames"][0]["lens"]["model"] == "equidistant"
    assert all(f["used"] for f in report["frames"])
    assert rms(sphere_set.error_px(report)) < PROMISED_PX
    assert (joined.canvas.projection.name, joined.canvas.width) == ("equirectangular", 2 * joined.canvas.height)
    assert (joined.picture.alpha > 0).all()
    # the ends of the circle meet: the step across them is like any step inside
    pixels = joined.picture.pixels.astype(int)
    across = np.abs(pixels[:, 0] - pixels[:, -1]).mean()
    inside = np.abs(pixels[:, 1:] - pixels[:, :-1]).mean()
    assert across < 2 * inside


def test_order_and_names_do_not_matter(row_set: FrameFiles, tmp_path: Path):
    """Shuffled files give the same registration."""
    shuffled = [row_set.paths[i] for i in (5, 2, 7, 0, 3, 6, 1, 4)]
    solution = solve(gather(shuffled))
    place = {solution.frames.infos[f].path: i for i, f in enumerate(solution.poses.frames)}
    at = [place[p] for p in row_set.paths]
    lenses = [solution.poses.lenses[i] for i in at]
    error = registration_error_px(
        row_set.lens, list(row_set.cameras), lenses, list(solution.poses.world_from_camera[at])
    )
    assert rms(error) < PROMISED_PX
    assert error.max() < 0.3


def test_wrong_metadata_are_not_believed(tmp_path: Path):
    """A cropped frame tells a focal length that is far off; the matches know better."""
    files = render(tmp_path, Lens("rectilinear", 640, 480, 680), [(-40.0 + 26 * i, 0, 0) for i in range(4)])
    exif = Image.Exif()
    exif.get_ifd(ExifTags.IFD.Exif)[ExifTags.Base.FocalLengthIn35mmFilm.value] = 135
    for path in files.paths:
        pixels = read(path).pixels
        Image.fromarray(pixels).save(path, quality=95, exif=exif)
    report, _ = _joined(files, tmp_path)
    assert report["frames"][0]["lens"]["focal_px"] == pytest.approx(640, rel=0.01)


def test_sideways_files_are_turned_by_their_orientation(row_set: FrameFiles, tmp_path: Path):
    """Half of the frames stored turned, as cameras held upright do."""
    paths = []
    for i, path in enumerate(row_set.paths[:4]):
        target = tmp_path / path.name
        if i % 2:
            with Image.open(path) as image:
                exif = image.getexif()
                exif[ExifTags.Base.Orientation.value] = 6
                image.rotate(90, expand=True).save(target, quality=95, exif=exif)
        else:
            target.write_bytes(path.read_bytes())
        paths.append(target)
    solution, joined = join(gather(paths), tmp_path / "out.tif")
    report = report_of(solution, joined)
    assert rms(row_set.error_px(report)) < PROMISED_PX


def test_exposure_and_colour_drift_is_evened_out(tmp_path: Path):
    settings = [
        CameraSettings(exposure_s=1 / 256 * 2 ** (i * 0.3 - 0.6), white_balance=(1 + 0.03 * i, 1, 1)) for i in range(4)
    ]
    lens = Lens("rectilinear", 500, 400, 520)
    files = render(tmp_path, lens, [(30.0 + 24 * i, 0, 0) for i in range(4)], settings=settings)
    report, _ = _joined(files, tmp_path)
    gain = np.array([f["gain"] for f in report["frames"]])
    shot = np.array([2.0 ** (SCENE_EV - s.exposure_value) for s in settings])
    evened = gain[:, 1] * shot
    np.testing.assert_allclose(evened / evened.mean(), 1, atol=0.03)
    red = gain[:, 0] / gain[:, 1] * (1 + 0.03 * np.arange(4))
    np.testing.assert_allclose(red / red.mean(), 1, atol=0.03)


def test_fall_off_is_found_and_taken_out(tmp_path: Path):
    """Half of the light lost at the corner: found from the overlaps alone, and the picture is even."""
    lens = Lens("rectilinear", 500, 400, 520)
    directions = [(30.0 + 22 * i, 0.0, 0.0) for i in range(4)]
    (tmp_path / "even").mkdir()
    files = render(tmp_path, lens, directions, falloff=(-0.4, -0.1))
    even = render(tmp_path / "even", lens, directions)
    report, joined = _joined(files, tmp_path)
    assert report["falloff"]["corner"] == pytest.approx(0.5, abs=0.03)
    plain, expected = _joined(even, tmp_path)
    assert plain["falloff"]["corner"] == 1.0
    height, width = (min(a, b) for a, b in zip(joined.picture.alpha.shape, expected.picture.alpha.shape))
    both = (joined.picture.alpha[:height, :width] > 0) & (expected.picture.alpha[:height, :width] > 0)
    ratio = joined.picture.pixels[:height, :width, 1][both] / np.maximum(
        expected.picture.pixels[:height, :width, 1][both], 1.0
    )
    rows = np.nonzero(both)[0]
    top, middle = np.median(ratio[rows < 60]), np.median(ratio[abs(rows - height / 2) < 30])
    assert top / middle == pytest.approx(1, abs=0.03)  # untreated the rim would be a fifth darker


def test_two_pictures_in_one_folder_are_told_apart(row_set: FrameFiles, tmp_path: Path):
    other = render(
        tmp_path, Lens("rectilinear", 640, 480, 680), [(150.0, 0, 0), (176.0, 0, 0)], scene=ambrel_holm(seed=9)
    )
    foreign = tmp_path / "other"
    foreign.mkdir()
    moved = [p.rename(foreign / f"g{p.name}") for p in other.paths]
    solution = solve(gather([*row_set.paths[1:5], *moved]))
    assert [len(g) for g in solution.groups] == [4, 2]
    assert set(solution.poses.frames) == {0, 1, 2, 3}
    assert "another picture" in solution.reasons[4]


def test_a_blank_frame_is_left_out_with_its_reason(row_set: FrameFiles, tmp_path: Path):
    Image.fromarray(np.full((680, 480, 3), 128, np.uint8)).save(tmp_path / "sky.jpg")
    solution = solve(gather([*row_set.paths[:3], tmp_path / "sky.jpg"]))
    assert 3 not in solution.poses.frames
    assert "Nothing to match" in solution.reasons[3]


def test_a_blank_frame_is_placed_by_the_plan(row_set: FrameFiles, tmp_path: Path):
    """Known directions place what cannot be matched, and turn the whole as planned."""
    Image.fromarray(np.full((680, 480, 3), 128, np.uint8)).save(tmp_path / "sky.jpg")
    paths = [*row_set.paths[:3], tmp_path / "sky.jpg"]
    angles = [(-98.0 + 28 * i, 0.0, 0.0) for i in range(3)] + [(-70.0, 40.0, 0.0)]
    (tmp_path / "plan.json").write_text(prior_text([p.name for p in paths], angles))
    frames = gather(paths)
    solution = solve(frames, prior=prior_for(frames.names, read_prior(tmp_path / "plan.json")))
    assert solution.placed_by == {0: "features", 1: "features", 2: "features", 3: "plan"}
    # the head plays by a quarter of a degree and its base leans by half a degree
    yaw = np.degrees([math.atan2(r[0, 2], r[2, 2]) for r in solution.poses.world_from_camera])
    np.testing.assert_allclose(yaw, [a[0] for a in angles], atol=1.0)
    # the canvas turns to the middle of the picture, the frames stay where they were told to be
    canvas = make_canvas(solution.poses, solution.seen, "equirectangular")
    middle = canvas.pixels(np.array([math.sin(math.radians(-70)), 0.0, math.cos(math.radians(-70))]))
    assert middle[0] == pytest.approx(canvas.width / 2, rel=0.03)


def test_frames_that_do_not_match_are_told(tmp_path: Path):
    rng = np.random.default_rng(8)
    for i in range(2):
        noise = cv2.resize(rng.integers(0, 255, (60, 90, 3), dtype=np.uint8), (900, 600), interpolation=cv2.INTER_CUBIC)
        Image.fromarray(noise).save(tmp_path / f"n{i}.jpg")
    with pytest.raises(JoinError, match="No two frames match"):
        solve(gather(sorted(tmp_path.glob("n*.jpg"))))


def test_sixteen_bit_frames_stay_sixteen_bit(tmp_path: Path):
    lens = Lens("rectilinear", 500, 400, 520)
    files = render(tmp_path, lens, [(20.0 * i, 0, 0) for i in range(3)], suffix=".tif", bits=16, metadata=False)
    _, joined = _joined(files, tmp_path)
    assert joined.picture.pixels.dtype == np.uint16
    assert read(tmp_path / "out.tif").pixels.dtype == np.uint16


@pytest.mark.parametrize("name", PROJECTIONS)
def test_every_projection_makes_a_picture(row_set: FrameFiles, name: str):
    """The same solved frames on every canvas; nothing is matched again."""
    solution = solve(gather(row_set.paths[2:5]), JoinOptions(refine=False))
    canvas = make_canvas(solution.poses, solution.seen, name, width_px=500)
    joined = compose_picture(solution, canvas, rough=True)
    assert joined.picture.pixels.shape == (canvas.height, canvas.width, 3)
    assert (joined.picture.alpha > 0).mean() > 0.5
    assert joined.crop.area > 0


@pytest.mark.parametrize(("name", "told"), [("out.png", r"GB free.*Make room"), ("out.tif", r"GB free.*Make room")])
def test_a_picture_too_large_is_told_before_the_work(
    row_set: FrameFiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str, told: str
):
    """Pictures of any size are written as they are made, so only the disk limits them."""
    monkeypatch.setattr(shutil, "disk_usage", lambda _folder: SimpleNamespace(free=10**9))
    with pytest.raises(InputError, match=told):
        join(gather(row_set.paths[:2]), tmp_path / name, JoinOptions(width_px=150_000, refine=False))
    assert [p for p in tmp_path.iterdir() if p.is_file()] == []


def test_stopping_raises_at_every_stage(row_set: FrameFiles, tmp_path: Path):
    """Cancel at the n-th report: the work ends there and no file appears."""

    class StopAt:
        def __init__(self, at: int) -> None:
            self.left = at

        def begin(self, stage: str, total: int) -> None:
            self.advance()

        def advance(self, n: int = 1) -> None:
            self.left -= 1
            if self.left < 0:
                raise Cancelled

    for at in (0, 3, 12, 20, 45):
        with pytest.raises(Cancelled):
            join(gather(row_set.paths[:3]), tmp_path / "out.tif", progress=StopAt(at))
        assert not (tmp_path / "out.tif").exists()


def test_rough_picture_stands_for_the_fine_one(row_set: FrameFiles):
    """Same canvas at a reduced scale: the rough look shows the same things in the same places."""
    solution = solve(gather(row_set.paths[3:6]))
    canvas = make_canvas(solution.poses, solution.seen, "cylindrical")
    small = canvas.scaled(0.5)
    rough = compose_picture(solution, small, rough=True).picture.pixels
    fine = compose_picture(solution, canvas).picture.pixels
    reduced = cv2.resize(fine, (small.width, small.height), interpolation=cv2.INTER_AREA)
    assert np.abs(rough.astype(int) - reduced)[40:-40, 40:-40].mean() < 6


def test_a_rough_solution_comes_before_the_fine_one(row_set: FrameFiles):
    """With known directions at once from the plan and again after adjustment; without them only the latter."""
    frames = gather(row_set.paths[:3])
    told = [row_set.cameras[i] for i in range(3)]
    early: list = []
    fine = solve(frames, prior=told, on_rough=lambda solution, _looks: early.append(solution))
    assert [len(e.poses.frames) for e in early] == [3, 3]
    np.testing.assert_allclose(early[0].poses.world_from_camera, np.stack(told), atol=1e-9)
    errors = [row_set_error(row_set, e.poses) for e in (*early, fine)]
    assert errors[2] < errors[1] < 3.0
    canvas = make_canvas(early[0].poses, early[0].seen, width_px=500)
    assert (compose_picture(early[0], canvas, rough=True).picture.alpha > 0).mean() > 0.8
    unknown: list = []
    solve(frames, on_rough=lambda solution, _looks: unknown.append(solution))
    assert len(unknown) == 1


def row_set_error(files: FrameFiles, poses) -> float:
    true = [files.cameras[f] for f in poses.frames]
    return rms(registration_error_px(files.lens, true, poses.lenses, list(poses.world_from_camera)))


def test_a_small_memory_gives_the_same_picture_in_tiles(row_set: FrameFiles, tmp_path: Path):
    """Written as it is made or all at once: the same pixels; and the memory asked for is a limit, not a wish."""
    whole, tiled, cut = tmp_path / "whole.tif", tmp_path / "tiled.tif", tmp_path / "cut.tif"
    frames = gather(row_set.paths[:5])
    join(frames, whole)
    solution, composed = join(frames, tiled, JoinOptions(memory_bytes=1_000_000))
    held = compose_picture(solution, composed.canvas).picture
    np.testing.assert_array_equal(tifffile.imread(tiled), np.dstack([held.pixels, held.alpha]))
    np.testing.assert_array_equal(tifffile.imread(tiled), tifffile.imread(whole))
    box = composed.crop
    inside = tifffile.imread(whole)[box.top : box.top + box.height, box.left : box.left + box.width]
    assert (inside[..., 3] == 255).all(), "the crop that is told holds no gap"
    with tifffile.TiffFile(tiled) as tiff:
        assert tiff.pages[0].is_tiled
    join(frames, cut, JoinOptions(memory_bytes=1_000_000, crop=True))
    picture = tifffile.imread(cut)
    # its tiles begin elsewhere: between coarse places, and of halves along seams, a level here and there comes out otherwise
    difference = np.abs(picture.astype(int) - inside[..., :3])
    assert difference.max() <= 8
    assert (difference > 2).mean() < 1e-4
    assert difference.mean() < 0.05
    assert picture.shape[:2] == (composed.crop.height, composed.crop.width)
    assert picture.shape[2] == 3, "without gaps there is no alpha"
    assert picture.shape[0] * picture.shape[1] > 0.6 * (tifffile.imread(whole)[..., 3] > 0).sum()
    assert report_of(solution, composed)["canvas"]["width"] == tifffile.imread(whole).shape[1]


def test_a_failure_while_writing_tiles_leaves_nothing(row_set: FrameFiles, tmp_path: Path):
    class Stops(Silent):
        def __init__(self) -> None:
            self.stage, self.count = "", 0

        def begin(self, stage: str, total: int) -> None:
            self.stage = stage

        def advance(self, n: int = 1) -> None:
            self.count += self.stage == "blend"
            if self.count == 2:
                raise Cancelled

    with pytest.raises(Cancelled):
        join(gather(row_set.paths), tmp_path / "o.tif", JoinOptions(memory_bytes=1_000_000), progress=Stops())
    assert [p for p in tmp_path.iterdir() if p.is_file()] == []


def test_frames_read_again_hold_the_same_pixels(tmp_path: Path):
    """The quick decoder against the first one, for all eight orientations of EXIF."""
    rng = np.random.default_rng(4)
    pixels = cv2.resize(rng.integers(0, 255, (12, 16, 3), dtype=np.uint8), (160, 120))
    for orientation in range(1, 9):
        exif = Image.Exif()
        exif[274] = orientation
        path = tmp_path / f"o{orientation}.jpg"
        Image.fromarray(pixels).save(path, quality=95, exif=exif)
        info = probe(path)
        assert info.plain_jpeg
        np.testing.assert_array_equal(read_again(info).pixels, read(path).pixels)


def test_a_report_is_enough_for_another_projection(row_set: FrameFiles, tmp_path: Path):
    """The same picture from the solution and from its report after a way through JSON; nothing is matched again."""
    frames = gather(row_set.paths)
    solution = solve(frames)
    canvas = make_canvas(solution.poses, solution.seen, "cylindrical")
    joined = compose_picture(solution, canvas)
    told = json.loads(json.dumps(report_of(solution, joined)))
    again = solution_of(typed(told), frames, JoinOptions().working_mp)
    np.testing.assert_allclose(again.poses.world_from_camera, solution.poses.world_from_camera, atol=1e-12)
    assert report_of(again, joined)["links"] == told["links"]
    other = make_canvas(again.poses, again.seen, "equirectangular")
    fresh = make_canvas(solution.poses, solution.seen, "equirectangular")
    assert (other.width, other.height) == (fresh.width, fresh.height)
    picture = compose_picture(again, canvas).picture
    difference = np.abs(picture.pixels.astype(int) - joined.picture.pixels)
    assert difference.mean() < 0.2
    with pytest.raises(InputError, match="have changed since the join"):
        solution_of(typed(told), gather(row_set.paths[:-1]), 0.2)
    nowhere = tuple(
        FrameRow(file=n, used=True, width=i.width, height=i.height) for n, i in zip(frames.names, frames.infos)
    )
    with pytest.raises(ValueError, match="without a pose"):
        solution_of(Report(frames=nowhere), frames, 0.2)
