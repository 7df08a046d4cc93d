"""What a header claims is held against what the file can hold and against free memory, before anything is unpacked."""

from __future__ import annotations

import io
import os
import struct
from pathlib import Path

import numpy as np
import pytest
import tifffile
from campaign.pictures import sound_pictures
from campaign.watch import watched
from PIL import Image

from idle_lantern.core.base.errors import InputError, UnreadableFrame
from idle_lantern.core.frames import bounds
from idle_lantern.core.frames.masks import read_mask
from idle_lantern.core.frames.reading import probe, read


def _jpeg_claiming(width: int, height: int) -> bytes:
    """A small JPEG whose frame header (ITU-T T.81, B.2.2) tells another size."""
    stream = io.BytesIO()
    Image.new("RGB", (64, 64), "teal").save(stream, "JPEG")
    data = bytearray(stream.getvalue())
    at = data.find(b"\xff\xc0")
    data[at + 5 : at + 9] = struct.pack(">HH", height, width)
    return bytes(data)


def _tiff_claiming(width: int, height: int, samples: int) -> bytes:
    """A TIFF of 20 kB whose directory (TIFF 6.0, section 2) tells of much more."""
    rows = b"\0" * 20_000
    entries = [
        (256, 4, 1, width), (257, 4, 1, height), (258, 3, 1, 8), (259, 3, 1, 1), (262, 3, 1, 2),
        (273, 4, 1, 200), (277, 3, 1, samples), (278, 4, 1, height), (279, 4, 1, len(rows)),
    ]  # fmt: skip
    directory = struct.pack("<H", len(entries)) + b"".join(struct.pack("<HHII", *e) for e in entries) + bytes(4)
    return (b"II*\0" + struct.pack("<I", 8) + directory).ljust(200, b"\0") + rows


@pytest.mark.parametrize(
    ("name", "data", "sentence"),
    [
        ("bomb.jpg", _jpeg_claiming(13_000, 13_000), "claims more pixels than it holds"),
        ("wide.jpg", _jpeg_claiming(65_535, 65_535), "impossible size"),
        ("channels.tif", _tiff_claiming(8_388_768, 100, 8), "impossible size"),
        ("channels.tif", _tiff_claiming(100_000, 1_000, 8), "8 channels"),
        ("short.tif", _tiff_claiming(20_000, 20_000, 3), "claims more pixels than it holds"),
        ("none.tif", _tiff_claiming(0, 0, 3), "impossible size|damaged"),
        ("empty.tif", b"II*\0\x08\0\0\0\0\0", "impossible size"),
        ("animal.jpg", b"GIF89a" + bytes(60), r"[Ii]s a GIF picture"),
        ("layers.jpg", b"8BPS" + bytes(60), r"[Ii]s a layered picture"),
    ],
)
def test_claims_that_cannot_be_are_refused_without_taking_memory(tmp_path: Path, name: str, data: bytes, sentence: str):
    path = tmp_path / name
    path.write_bytes(data)

    def look(_seed: int) -> None:
        for way in (probe, read, read_mask):
            with pytest.raises(InputError, match=sentence):
                way(path)

    tally = watched(look, [0])
    assert tally.faults == []
    assert tally.most_mib < 100
    assert tally.longest_s < 2


def test_more_memory_than_is_free_is_told_before_it_is_taken(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    path = tmp_path / "a.png"
    Image.new("RGB", (3000, 2000)).save(path)
    monkeypatch.setattr(bounds, "available_bytes", lambda: 30_000_000)
    with pytest.raises(UnreadableFrame, match=r"Needs some 54.0 MB of memory to be read, and 30.0 MB are free"):
        read(path)


def test_a_decoder_that_gets_no_memory_does_not_make_a_sound_frame_damaged(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    path = tmp_path / "a.jpg"
    path.write_bytes(sound_pictures()["plain.jpg"])

    def starved(*_a: object, **_k: object) -> None:
        raise MemoryError

    monkeypatch.setattr(Image.Image, "convert", starved)
    with pytest.raises(UnreadableFrame, match="Needs more memory to be read than is free"):
        read(path)


def test_a_jpeg_of_thousands_of_passes_is_refused(tmp_path: Path):
    data = sound_pictures()["passes.jpg"]
    scan = data.rfind(b"\xff\xda")
    path = tmp_path / "passes.jpg"
    path.write_bytes(data[:-2] + data[scan:-2] * 3000 + b"\xff\xd9")
    with pytest.raises(UnreadableFrame, match="more passes than any camera writes"):
        probe(path)


def test_reading_gives_up_after_a_time_that_grows_with_the_size(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    path = tmp_path / "a.tif"
    tifffile.imwrite(path, np.zeros((64, 64, 3), np.uint8), photometric="rgb", rowsperstrip=1)
    read(path)
    now = iter(range(0, 10_000, 10))
    monkeypatch.setattr(bounds.time, "monotonic", lambda: next(now))
    with pytest.raises(UnreadableFrame, match="Takes far too long to be read"):
        read(path)


def test_what_is_no_file_is_not_waited_for(tmp_path: Path):
    os.mkfifo(tmp_path / "pipe.jpg")
    with pytest.raises(UnreadableFrame, match="Is no file"):
        probe(tmp_path / "pipe.jpg")
    (tmp_path / "loop.jpg").symlink_to(tmp_path / "loop.jpg")
    with pytest.raises(UnreadableFrame, match="Cannot be read"):
        probe(tmp_path / "loop.jpg")


def test_every_kind_is_read_to_the_pixel_as_other_readers_read_it(tmp_path: Path):
    """Against Pillow and tifffile; what they cannot tell apart is not damaged by the checks."""
    for name, data in sound_pictures().items():
        path = tmp_path / name
        path.write_bytes(data)
        ours = read(path).pixels
        assert ours.shape[2] == 3, name
        if name in ("plain.tif", "strips.tif", "bits.tif", "big.tif", "tiles.tif"):
            np.testing.assert_array_equal(ours, tifffile.imread(path), err_msg=name)
        elif name == "planes.tif":
            np.testing.assert_array_equal(ours, np.moveaxis(tifffile.imread(path), 0, -1), err_msg=name)
        elif name in ("plain.png", "gaps.png", "grey.jpg"):
            with Image.open(path) as image:
                upright = np.asarray(image.convert("RGB"))
            turned = np.rot90(upright, -1) if name == "plain.png" else upright
            np.testing.assert_array_equal(ours, turned, err_msg=name)
