"""Presets kept and taken, sizes foretold, words in the files, and the proof that refuses what was written wrongly."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from PIL import Image
from skimage import data
from tests.helpers.commands import run_command

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.progress import InParts
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver import service
from idle_lantern.core.deliver.foretold import foretold_bytes
from idle_lantern.core.deliver.formats import FORMATS, FileFormat
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob, OnPaper
from idle_lantern.core.deliver.kinds import KINDS, planned
from idle_lantern.core.deliver.presets import (
    SHIPPED,
    Preset,
    applied,
    keep_preset,
    preset_named,
    presets,
    remove_preset,
)
from idle_lantern.core.deliver.proof import proved_picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_source
from idle_lantern.core.pictures.source import HeldPicture


def test_a_preset_comes_back_as_it_was_kept_and_goes_before_a_shipped_one(tmp_path: Path):
    job = DeliverJob("print", 88, 240.0, "p3", on_paper=OnPaper("roll:610", 5.0, sheets=True), sharpen_for="matte")
    keep_preset("web", job, tmp_path)
    assert preset_named("web", tmp_path).job == job
    assert [p.name for p in presets(tmp_path)] == ["web", "archive", "print", "sphere"]
    assert preset_named(str(tmp_path / "web.json"), tmp_path / "elsewhere").job == job
    (tmp_path / "broken.json").write_text("{")
    assert len(presets(tmp_path)) == 4
    remove_preset("web", tmp_path)
    assert preset_named("web", tmp_path) == SHIPPED[0]
    own = DeliverJob(heading_deg=75.0, operations=(CoverNadir(),), captions=True, on_paper=OnPaper("A1"))
    taken = applied(SHIPPED[0], own)
    assert (taken.heading_deg, taken.operations, taken.on_paper) == (75.0, own.operations, own.on_paper)
    assert taken.long_side_px == 2560
    assert applied(Preset("mine", job), own).on_paper == job.on_paper, "a print brings its paper"


@pytest.mark.parametrize("name", ["", "a/b", ".hidden", "x" * 61])
def test_names_that_cannot_be_kept_are_refused(tmp_path: Path, name: str):
    with pytest.raises(InputError, match="needs a name"):
        keep_preset(name, DeliverJob(), tmp_path)


def test_what_lies_in_an_outing_is_kept_by_no_preset(tmp_path: Path):
    for job in (DeliverJob(profile="a" * 64), DeliverJob(operations=(CoverNadir("mark", 10, "b" * 64),))):
        with pytest.raises(InputError, match="of your own"):
            keep_preset("mine", job, tmp_path)


def test_the_command_takes_a_preset_and_what_is_given_beside_it(tmp_path: Path):
    Image.fromarray(data.coffee()).resize((4000, 2600)).save(tmp_path / "in.png")
    done = run_command("deliver", tmp_path / "in.png", "--preset", "web", "--out", tmp_path / "w.jpg")
    assert done.returncode == 0, done.stderr
    with Image.open(tmp_path / "w.jpg") as image:
        assert max(image.size) == 2560
        assert image.info["dpi"] == (96, 96)
    done = run_command(
        "deliver", tmp_path / "in.png", "--preset", "web", "--long-side", "900", "--out", tmp_path / "w.jpg"
    )
    with Image.open(tmp_path / "w.jpg") as image:
        assert max(image.size) == 900
    done = run_command("deliver", tmp_path / "in.png", "--preset", "wb", "--out", tmp_path / "x.jpg")
    assert done.returncode == 2
    assert "Known are web, archive, print, sphere" in done.stderr
    done = run_command("deliver", tmp_path / "in.png", "--preset", "sphere", "--out", tmp_path / "x.jpg")
    assert done.returncode == 2
    assert "not twice as wide" in done.stderr


PHOTOGRAPHS = {
    "coffee": data.coffee(), "retina": data.retina()[..., :3], "cat": data.chelsea(), "rocket": data.rocket(),
}  # fmt: skip


@pytest.mark.parametrize("kind", [f for f in FORMATS if f.light != "always"], ids=lambda f: f.name)
def test_sizes_are_foretold_within_a_fifth(kind: FileFormat, tmp_path: Path):
    """On photographs made so large that only a part of them is packed to foretell it."""
    for name, pixels in list(PHOTOGRAPHS.items())[: 1 if kind.packed_whole else 3]:
        large = cv2.resize(np.ascontiguousarray(pixels), (2900, 1900), interpolation=cv2.INTER_CUBIC)
        noisy = np.clip(large + np.random.default_rng(1).normal(0, 3, large.shape), 0, 255).astype(np.uint8)
        source, options = HeldPicture(Picture(noisy)), WriteOptions()
        write_source(source, tmp_path / f"f{kind.ending}", options)
        there = (tmp_path / f"f{kind.ending}").stat().st_size
        assert foretold_bytes(source, kind, options) == pytest.approx(there, rel=0.2), name


@pytest.mark.parametrize("kind", FORMATS, ids=lambda f: f.name)
def test_a_file_that_is_as_it_was_meant_passes_and_another_one_does_not(kind: FileFormat, tmp_path: Path):
    source = HeldPicture(Picture(data.coffee()))
    path = tmp_path / f"a{kind.ending}"
    write_source(source, path, WriteOptions())
    lines = proved_picture(path, kind, source)
    assert all(line.good for line in lines)
    assert len(lines) >= 2
    smaller = HeldPicture(Picture(np.ascontiguousarray(data.coffee()[:-1])))
    with pytest.raises(InputError, match="does not read back"):
        proved_picture(path, kind, smaller)
    if kind.light != "always":
        other = HeldPicture(Picture(255 - data.coffee()))
        with pytest.raises(InputError, match="places compared"):
            proved_picture(path, kind, other)


def test_a_file_that_reads_back_wrongly_replaces_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    Image.fromarray(data.coffee()).save(tmp_path / "in.png")
    (tmp_path / "out.jpg").write_bytes(b"before")

    def wrong(source, part, *_how):
        Image.new("RGB", (600, 400), "red").save(part)

    monkeypatch.setattr(service, "write_part", wrong)
    done = run_command("deliver", tmp_path / "in.png", "--out", tmp_path / "out.jpg")
    assert done.returncode == 2
    assert "does not read back as it should" in done.stderr
    assert (tmp_path / "out.jpg").read_bytes() == b"before"


def test_files_say_whose_they_are_in_every_letter(tmp_path: Path):
    """Dublin Core in XMP holds any letter; EXIF and TIFF 6.0 (Artist, Copyright) hold ASCII."""
    Image.fromarray(data.coffee()).save(tmp_path / "in.png")
    for ending in (".jpg", ".webp", ".tif"):
        done = run_command(
            "deliver",
            tmp_path / "in.png",
            "--author",
            "Zoë Łukasz <Ø>",
            "--rights",
            "© all",
            "--out",
            tmp_path / f"o{ending}",
        )
        assert done.returncode == 0, done.stderr
    for ending in (".jpg", ".webp"):
        with Image.open(tmp_path / f"o{ending}") as image:
            told = image.getxmp()["RDF"]["Description"]
            assert told["creator"]["Seq"]["li"] == "Zoë Łukasz <Ø>"
            assert told["rights"]["Alt"]["li"]["text"] == "© all"
            assert image.getexif()[33432] == "(c) all"
    with tifffile.TiffFile(tmp_path / "o.tif") as file:
        assert file.pages.first.tags[315].value == "Zoe ?ukasz <?>"


def test_every_kind_says_before_what_will_be_looked_at():
    assert all(planned(kind.name) for kind in KINDS)


class Counted:
    """Progress that is written down."""

    def __init__(self) -> None:
        self.total, self.done = 0, 0

    def begin(self, _stage: str, total: int) -> None:
        self.total += total

    def advance(self, n: int = 1) -> None:
        self.done += n


def test_progress_of_parts_ends_where_it_should():
    told = Counted()
    parts = InParts(told, 3)
    for total in (7, 1, 40):
        parts.begin("write", total)
        for _ in range(total):
            parts.advance()
    assert told.done == told.total == 3000


def test_a_sphere_that_is_none_takes_no_place_and_a_vast_one_is_opened(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """Pillow refuses pictures of more than its limit as an attack: spheres are larger than that."""
    pixels = np.asarray(Image.fromarray(data.coffee()).resize((800, 400)))
    write_source(HeldPicture(Picture(pixels)), tmp_path / "in.tif")
    asked = ["deliver", tmp_path / "in.tif", "--as", "sphere", "--out", tmp_path / "s.jpg"]
    monkeypatch.setattr(Image, "MAX_IMAGE_PIXELS", 100_000)  # the sphere has three times as many
    assert run_command(*asked).returncode == 0
    before = (tmp_path / "s.jpg").read_bytes()
    monkeypatch.setattr(service, "sphere_facts", lambda *_a: {})
    done = run_command(*asked)
    assert done.returncode == 2
    assert "no sphere is recognised" in done.stderr
    assert (tmp_path / "s.jpg").read_bytes() == before


def test_an_iiif_image_is_told_by_its_tiles(tmp_path: Path):
    Image.fromarray(data.coffee()).resize((1500, 1000)).save(tmp_path / "in.png")
    done = run_command("deliver", tmp_path / "in.png", "--as", "iiif", "--out", tmp_path / "page")
    assert done.returncode == 0, done.stderr
    count = len(list((tmp_path / "page").glob("*/*/0/default.jpg")))
    assert f"{count} tiles" in done.stderr
    assert "1500 x 1000 px told" in done.stderr
