"""The proof of a print against plain arithmetic of primaries (IEC 61966-2-1, Display P3), and of paper by a profile made for it."""

from __future__ import annotations

import numpy as np
import pytest
from skimage import data

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.picture import Picture
from idle_lantern.core.colour.profiles import named_space, profile_of
from idle_lantern.core.colour.space import SRGB, light_matrix
from idle_lantern.core.deliver.proofing import PrinterProof
from idle_lantern.core.pictures.operations import OperatedPicture
from idle_lantern.core.pictures.source import HeldPicture

P3 = named_space("p3")


def test_colours_that_the_printer_lacks_are_marked_and_no_others():
    """A picture in Display P3, a printer with the primaries of sRGB: what lies outside is what the matrix makes negative or above one."""
    rng = np.random.default_rng(2)
    pixels = rng.integers(0, 256, (200, 300, 3)).astype(np.uint8)
    source = HeldPicture(Picture(pixels, space=P3))
    proof = PrinterProof(profile_of(SRGB), P3, mark=False)
    light = P3.to_linear(pixels.astype(np.float32) / 255) @ light_matrix(P3, SRGB).T
    deep = ((light < -0.02) | (light > 1.02)).any(-1)
    inside = ((light > 0.01) & (light < 0.99)).all(-1)
    share = proof.outside_share(source)
    assert deep.mean() <= share <= 1 - inside.mean()
    shown = OperatedPicture(source, [proof]).tile(0, 0, 0)
    assert np.abs(shown[inside].astype(int) - pixels[inside]).max() <= 2, "what can be printed is shown as it is"
    assert np.abs(shown[deep].astype(int) - pixels[deep]).max() > 10
    marked = OperatedPicture(source, [PrinterProof(profile_of(SRGB), P3)]).tile(0, 0, 0)
    changed = (marked != shown).any(-1)
    assert not changed[inside].any()
    assert 0.3 < changed[deep].mean() < 0.7, "in stripes, so that what lies below is seen too"


def test_a_picture_that_the_printer_holds_stays_as_it_is():
    source = HeldPicture(Picture(data.coffee()))
    proof = PrinterProof(profile_of(P3), SRGB)
    assert proof.outside_share(source) == 0
    assert np.abs(OperatedPicture(source, [proof]).tile(0, 0, 0).astype(int) - data.coffee()[:512, :512]).max() <= 2
    assert proof.title


def test_what_is_no_profile_is_refused():
    with pytest.raises(InputError, match="no profile"):
        PrinterProof(b"nothing", SRGB)
