"""A place as a telephone shows it: overlapping upright frames with their settings in the files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.simulator.camera import CameraSettings
from idle_lantern.simulator.diorama import ambrel_holm
from tests.helpers.sets import FrameFiles, render

LENS = Lens("rectilinear", 560, 480, 640)
SETTING = CameraSettings(aperture=8.0, exposure_s=1 / 320, iso=100.0)


def telephone_sweep(folder: Path, first_deg: float = -10.0, count: int = 5, walkers: int = 0) -> FrameFiles:
    """Frames 26 degrees apart."""
    looks = [(first_deg + 26 * i, 0.0, 0.0) for i in range(count)]
    files = render(folder, LENS, looks, settings=[SETTING] * count, scene=ambrel_holm(walkers=walkers))
    meta = Metadata(focal_mm=24.0, sensor_width_mm=24.0 * 640 / 560, aperture=8.0, exposure_s=1 / 320, iso=100.0)
    for path in files.paths:
        with Image.open(path) as image:
            pixels = np.asarray(image)
        write(Picture(pixels), path, WriteOptions(jpeg_quality=95, metadata=meta))
    return files
