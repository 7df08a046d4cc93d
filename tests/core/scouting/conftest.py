"""A telephone's frames of the invented place, and what an outing keeps of them."""

from __future__ import annotations

import pytest
from tests.helpers.sets import FrameFiles
from tests.helpers.telephone import telephone_sweep

from idle_lantern.core.scouting.reprojection import ReprojectedScouts, read_reprojected
from idle_lantern.core.scouting.scout import scouted
from idle_lantern.core.scouting.scout_picture import ScoutPicture


@pytest.fixture(scope="session")
def sweep(tmp_path_factory: pytest.TempPathFactory) -> FrameFiles:
    """Five upright frames as a telephone would take them, with the settings in their files."""
    return telephone_sweep(tmp_path_factory.mktemp("sweep"))


@pytest.fixture(scope="session")
def kept(sweep: FrameFiles, tmp_path_factory: pytest.TempPathFactory) -> tuple[ScoutPicture, ReprojectedScouts, bytes]:
    """The same as a scouting picture, read from its asset."""
    picture, data = scouted(sweep.paths)
    path = tmp_path_factory.mktemp("asset") / "ground.png"
    path.write_bytes(data)
    return picture, read_reprojected(picture, path), data
