"""Choices of a join: what each changes is told by its field, and no field is forgotten."""

from __future__ import annotations

from dataclasses import fields, replace

import msgspec
import pytest
from hypothesis import given
from tests.strategies import choices

from idle_lantern.core.merging.development import Development
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.request.choices import (
    JoinChoices,
    MaskRef,
    TiePoint,
    changed_by,
    differing,
    needs_solving,
)
from idle_lantern.core.request.eased import RoundThing
from idle_lantern.core.request.options import JoinOptions

#: Another value of each field, and what a photographer would have to wait for (common practice, no source).
OTHERS = {
    "left_out": (("a",), "files"), "twins": ("jpeg", "files"),
    "put_back": (("a",), "solve"), "lens": (KnownLens(600, 400, 500.0), "solve"),
    "points": ((TiePoint("a", (1.0, 2.0), "b", (3.0, 4.0)),), "solve"), "cut_links": ((("a", "b"),), "solve"),
    "level": ("none", "solve"), "lens_shift": (True, "solve"),
    "brackets": ("fuse", "light"), "repeats": ("stack", "light"), "development": (Development(1.0), "light"),
    "projection": ("mercator", "canvas"), "turn_deg": ((1.0, 0.0, 0.0), "canvas"), "distance": (2.0, "canvas"),
    "straighten": (0.5, "canvas"), "rim": ("fill", "canvas"),
    "eased": ((RoundThing((10.0, 5.0), 3.0),), "canvas"),
    "off": (("a",), "pixels"), "masks": ((MaskRef("a", "b" * 64),), "pixels"),
}  # fmt: skip


@pytest.mark.parametrize("name", [f.name for f in fields(JoinChoices)])
def test_every_choice_is_compared_and_tells_what_it_changes(name: str):
    other, changes = OTHERS[name]
    plain, changed = JoinChoices(), replace(JoinChoices(), **{name: other})
    assert differing(plain, changed) == (name,)
    assert changed_by((name,)) == {changes}
    assert needs_solving(plain, changed) == (changes in ("files", "solve"))
    options = JoinOptions.of(changed)
    assert options.choices() == changed
    assert (options.deciding("solve") != JoinOptions().deciding("solve")) == (changes == "solve")


def test_how_the_engine_runs_decides_no_solution():
    assert JoinOptions(threads=7, memory_bytes=9).deciding("solve") == JoinOptions(threads=1).deciding("solve")
    assert JoinOptions(seed=2).deciding("solve") != JoinOptions().deciding("solve")


@given(choices())
def test_choices_come_back_from_json(made: JoinChoices):
    assert msgspec.json.decode(msgspec.json.encode(made), type=JoinChoices) == made


@given(choices())
def test_of_fewer_frames_only_what_concerns_them_is_left(made: JoinChoices):
    few = made.among(["a", "b"])
    named = {*few.put_back, *few.off, *(m.frame for m in few.masks)}
    named |= {f for pair in few.cut_links for f in pair} | {f for p in few.points for f in (p.a, p.b)}
    assert named <= {"a", "b"}
    assert few.among(["b", "a"]) == few
    gone = made.without(["c"])
    assert "c" not in {*gone.left_out, *gone.put_back, *gone.off, *(m.frame for m in gone.masks)}


def test_what_makes_no_difference_is_not_told_as_one():
    """Panini's figures for a cylinder, brackets of a set without any."""
    made = JoinChoices(distance=2.0, straighten=0.3, brackets="fuse", repeats="stack", twins="jpeg")
    assert made.relevant(brackets=False, repeats=False, twins=False) == JoinChoices()
    kept = replace(made, projection="panini").relevant(brackets=True, repeats=True, twins=True)
    assert differing(kept, made) == ("projection",)
