"""Prints: papers by their standards, layouts by arithmetic, PDF by another reader, and what an eye makes of them."""

from __future__ import annotations

import io
import itertools
import re
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from pypdf import PdfReader
from tests.helpers.commands import run_command

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import profile_of
from idle_lantern.core.colour.space import SRGB
from idle_lantern.core.deliver.job import OnPaper
from idle_lantern.core.deliver.papers import paper_named
from idle_lantern.core.deliver.print_layout import INCH_MM, laid_out
from idle_lantern.core.deliver.print_pdf import write_print
from idle_lantern.core.deliver.viewing import largest_print_m, needed_px, seen_dpi, sharp_from_m
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.pictures.source import HeldPicture

MM = 72 / 25.4


def test_papers_are_those_of_iso_216_and_of_the_trade():
    """ISO 216: A0 has a square metre, its sides as 1 to the root of 2; each next one is half of it, rounded down."""
    a = [paper_named(f"A{k}") for k in range(7)]
    assert (a[0].long_mm, a[0].short_mm) == (1189, 841)
    for larger, smaller in itertools.pairwise(a):
        assert (smaller.long_mm, smaller.short_mm) == (larger.short_mm, (larger.long_mm or 0) // 2)
    assert (paper_named("B1").long_mm, paper_named("B1").short_mm) == (1000, 707)
    assert (paper_named("letter").long_mm, paper_named("letter").short_mm) == pytest.approx(
        (11 * INCH_MM, 8.5 * INCH_MM)
    )  # ANSI Y14.1
    assert paper_named("30x45").long_mm == 450  # photographic papers go by centimetres (common practice, no source)
    assert paper_named("roll: 610").is_roll
    assert paper_named("own").is_own
    assert paper_named("297 x 420 mm").long_mm == 420
    for wrong in ("A9", "10x99999", "roll:5", "paper"):
        with pytest.raises(InputError):
            paper_named(wrong)


def test_twelve_megapixels_are_about_a4():
    """4 000 x 3 000 px at 300 dots an inch: 339 x 254 mm, more than A4 and less than A3 (common practice, no source)."""
    layout = laid_out((4000, 3000), 300, OnPaper("own", border_mm=0))
    assert (layout.width_mm, layout.height_mm) == pytest.approx((338.7, 254.0), abs=0.05)


def test_an_eye_of_usual_sharpness_needs_300_dots_in_the_hand():
    """One minute of arc at 0.3 m is 0.087 mm, 291 dots an inch: where the usual 300 comes from (Snellen's minute)."""
    assert seen_dpi(0.3) == pytest.approx(291, abs=0.5)
    assert sharp_from_m(seen_dpi(2.0)) == pytest.approx(2.0)
    width, height = largest_print_m((6000, 3000), 1.0)
    assert needed_px(width, 1.0) in (6000, 6001)
    assert height == pytest.approx(width / 2)


sizes = st.tuples(st.integers(200, 90_000), st.integers(200, 40_000))


@settings(max_examples=25, deadline=None)
@given(
    sizes,
    st.sampled_from(["A4", "A2", "30x40", "Letter", "roll:610"]),
    st.floats(0, 20),
    st.floats(0, 30),
    st.floats(300, 3000),
)
def test_sheets_hold_all_of_the_picture_and_overlap_as_asked(
    size: tuple[int, int], paper: str, border: float, overlap: float, width_mm: float
):
    on = OnPaper(paper, border_mm=border, overlap_mm=overlap, sheets=True, width_mm=width_mm)
    try:
        layout = laid_out(size, 300, on)
    except InputError:
        return  # hundreds of sheets
    seen = np.zeros((layout.size_px[1] // 50 + 1, layout.size_px[0] // 50 + 1), bool)
    per_mm = layout.size_px[0] / layout.width_mm
    by_row: dict[int, list] = {}
    for k, sheet in enumerate(layout.sheets):
        by_row.setdefault(k // layout.columns, []).append(sheet)
        part, at = sheet.part, sheet.picture
        seen[
            part.top // 50 : (part.top + part.height) // 50 + 1, part.left // 50 : (part.left + part.width) // 50 + 1
        ] = True
        assert border - 1 / per_mm - 1e-6 <= at.left
        assert at.left + at.width <= sheet.width_mm - border + 1 / per_mm + 1e-6
        assert at.width * per_mm == pytest.approx(part.width)  # true size on each
    assert seen.all()
    for row in by_row.values():
        for a, b in itertools.pairwise(row):
            assert (a.part.left + a.part.width - b.part.left) / per_mm == pytest.approx(overlap, abs=2 / per_mm + 1e-6)


def reference(width: int = 900, height: int = 300) -> Picture:
    rng = np.random.default_rng(3)
    coarse = rng.integers(30, 220, (6, 18, 3), np.uint8)
    return Picture(np.asarray(Image.fromarray(coarse).resize((width, height), Image.Resampling.BICUBIC)))


def written(tmp_path: Path, on: OnPaper, dpi: float = 300) -> tuple[PdfReader, Picture]:
    picture = reference()
    layout = laid_out((picture.width, picture.height), dpi, on)
    file = write_print(HeldPicture(picture), layout, tmp_path / "p.pdf", WriteOptions(95), title="Salt pans (east)")
    return PdfReader(file), picture


def image_of(page) -> tuple[Image.Image, bytes]:
    stream = page["/Resources"]["/XObject"]["/Picture"].get_object()
    profile = stream["/ColorSpace"][1].get_object().get_data()
    return Image.open(io.BytesIO(stream._data)), profile


def test_a_page_is_as_large_as_its_paper_and_the_picture_at_its_true_place(tmp_path: Path):
    """ISO 32000-1, 14.11.2: boxes in points of 1/72 inch; the picture's matrix is its size."""
    reader, picture = written(tmp_path, OnPaper("A4", border_mm=15))
    page = reader.pages[0]
    assert float(page.mediabox.width) / MM == pytest.approx(297, abs=0.05)
    assert float(page.mediabox.height) / MM == pytest.approx(210, abs=0.05)
    matrix = [float(v) for v in page.get_contents().get_data().split(b" cm")[0].split(b"q ")[1].split()]
    assert matrix[0] / MM == pytest.approx(267, abs=0.05)  # 297 less two borders
    assert matrix[3] / MM == pytest.approx(89, abs=0.05)
    assert matrix[4] / MM == pytest.approx(15, abs=0.05)
    assert matrix[5] / MM == pytest.approx((210 - 89) / 2, abs=0.05)
    image, profile = image_of(page)
    assert profile == profile_of(SRGB)
    assert np.abs(np.asarray(image, float) - picture.pixels).mean() < 1.5
    assert reader.metadata is not None
    assert reader.xmp_metadata is not None


def test_a_wrapped_print_shows_itself_mirrored_round_the_edges(tmp_path: Path):
    reader, picture = written(tmp_path, OnPaper("own", border_mm=0, wrap_mm=10, bleed_mm=3, width_mm=300))
    page = reader.pages[0]
    assert float(page.trimbox.width) / MM == pytest.approx(320, abs=0.1)
    assert float(page.trimbox.height) / MM == pytest.approx(120, abs=0.1)
    assert float(page.bleedbox.width) / MM == pytest.approx(326, abs=0.1)
    image, _profile = image_of(page)
    found = np.asarray(image, float)
    beyond = (found.shape[1] - 900) // 2
    assert beyond == (13 * 3)
    assert np.abs(found[beyond:-beyond, beyond:-beyond] - picture.pixels).mean() < 1.5
    assert np.abs(found[:, :beyond] - found[:, beyond : 2 * beyond][:, ::-1]).mean() < 1.5


def test_what_shows_nothing_stays_paper(tmp_path: Path):
    picture = reference()
    alpha = np.full((300, 900), 255, np.uint8)
    alpha[:, 600:] = 0
    layout = laid_out((900, 300), 300, OnPaper("A5"))
    file = write_print(HeldPicture(Picture(picture.pixels, alpha)), layout, tmp_path / "p.pdf", WriteOptions(95))
    image, _profile = image_of(PdfReader(file).pages[0])
    assert np.asarray(image)[:, 620:].min() > 250


@pytest.mark.parametrize(
    ("on", "why"),
    [
        (OnPaper("A4", border_mm=10, bleed_mm=3), "needs no bleed"),
        (OnPaper("A4", border_mm=0, bleed_mm=3), "does not fill"),
        (OnPaper("A6", border_mm=60), "leave nothing"),
        (OnPaper("A4", width_mm=900), "does not fit"),
        (OnPaper("own", sheets=True), "need a paper"),
        (OnPaper("A6", sheets=True, width_mm=90_000), "sheets"),
        (OnPaper("A4", sheets=True, wrap_mm=20), "one piece"),
    ],
)
def test_what_does_not_go_together_is_said(on: OnPaper, why: str):
    with pytest.raises(InputError, match=why):
        laid_out((9000, 3000), 300, on)


def test_the_command_prints_on_sheets_that_are_put_together_again(tmp_path: Path):
    picture = reference(1800, 900)
    Image.fromarray(picture.pixels).save(tmp_path / "in.png")
    done = run_command(
        "deliver", tmp_path / "in.png", "--as", "print", "--paper", "A5", "--sheets", "--print-width", "380",
        "--overlap", "12", "--out", tmp_path / "out.pdf",
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "pages" in done.stderr
    assert "profile there" in done.stderr
    reader = PdfReader(tmp_path / "out.pdf")
    layout = laid_out((1800, 900), 300, OnPaper("A5", sheets=True, width_mm=380, overlap_mm=12))
    assert len(reader.pages) == len(layout.sheets) > 3
    whole = np.zeros((900, 1800, 3))
    for page, sheet in zip(reader.pages, layout.sheets):
        image, _profile = image_of(page)
        part = sheet.part
        whole[part.top : part.top + part.height, part.left : part.left + part.width] = np.asarray(image)
        assert "Row" in page.extract_text()
    assert np.abs(whole - picture.pixels).mean() < 1.5
    done = run_command("deliver", tmp_path / "in.png", "--paper", "A5", "--out", tmp_path / "x.png")
    assert done.returncode == 2
    assert "--paper is for prints" in done.stderr


def test_a_strip_shows_the_demanding_places_as_large_as_in_the_print(tmp_path: Path):
    """Each at its own place of a made picture: leaves, a cellar, a sky that fades, a red wall, a bright cloud."""
    h, w = 1800, 3600
    rng = np.random.default_rng(5)
    pixels = np.full((h, w, 3), 120, np.uint8)
    grain = rng.integers(0, 255, (500, 600, 1))
    places = {
        "Finest": ((100, 150), grain.repeat(3, 2)),
        "Deepest": ((1100, 200), 22 + rng.integers(0, 14, (500, 600, 1)).repeat(3, 2)),
        "Even": ((100, 1300), np.linspace(150, 190, 500)[:, None, None] * np.ones((1, 600, 3))),
        "Strongest": ((1150, 1500), np.array([215, 20, 30]) + rng.integers(0, 6, (500, 600, 1))),
        "Brightest": ((200, 2600), 238 + rng.integers(0, 12, (500, 600, 1)).repeat(3, 2)),
    }
    for (top, left), patch in places.values():
        pixels[top : top + 500, left : left + 600] = patch
    Image.fromarray(pixels).save(tmp_path / "p.png")
    on_paper = ["--paper", "A4", "--print-width", "600", "--sheets", "--strip", "--profile", "keep"]
    done = run_command("deliver", tmp_path / "p.png", "--as", "print", *on_paper, "--out", tmp_path / "s.pdf")
    assert done.returncode == 0, done.stderr
    (page,) = PdfReader(tmp_path / "s.pdf").pages
    assert float(page.mediabox.width) / 72 * 25.4 == pytest.approx(297, abs=0.1)
    said = page.extract_text()
    assert all(word in said for word in places)
    strip = np.asarray(page.images[0].image.convert("RGB")).astype(int)
    # the scale of the print: its pixels lie on the strip as densely
    matrix = re.search(rb"q ([\d.]+) 0 0", page.get_contents().get_data())
    assert matrix is not None
    assert strip.shape[1] / float(matrix[1]) == pytest.approx(w / (600 / 25.4 * 72), rel=1e-3)
    ends = np.flatnonzero((strip > 250).all((0, 2)))
    parts = [p for p in np.split(strip, ends, axis=1) if p.shape[1] > 20]
    assert len(parts) == 5
    for part, ((top, left), patch) in zip(
        parts, (places[k] for k in ("Finest", "Deepest", "Even", "Strongest", "Brightest"))
    ):
        middle = part[20:-20, 20:-20]
        assert np.abs(middle.mean((0, 1)) - np.asarray(patch).mean((0, 1))).max() < 25, (top, left)
