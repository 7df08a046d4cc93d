"""Damaged documents: values that the schema forbids or barely allows, keys gone or strange, and text that is no JSON."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, replace
from functools import lru_cache
from pathlib import Path
from random import Random
from typing import Any

from idle_lantern.app import settings
from idle_lantern.core.deliver.job import CoverNadir, DeliverJob, TellInvented
from idle_lantern.core.finish.masks import Round
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.steps.curve import Curve
from idle_lantern.core.finish.steps.exposure import ExposureStep
from idle_lantern.core.gear.library import Library
from idle_lantern.core.outing import document, schema
from idle_lantern.core.outing.model import CaptureGroup, Composition, CropBox, FrameRef, Outing
from idle_lantern.core.plan.brief import Brief, Mark, Scene, Site, Stop
from idle_lantern.core.plan.exchange import plan_csv, plan_document, read_frames_csv, read_spec
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.judge import judge
from idle_lantern.core.plan.planner import make_plan
from idle_lantern.core.registration.solve.prior import prior_text, read_prior
from idle_lantern.core.request.choices import JoinChoices, MaskRef, TiePoint

#: What no field wants, or none survives.
_ODD: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 0.5, 1.5, -0.0, 1e-300, 1e300, 2**31, 2**53 + 1, 2**63, 10**400, 90, -90, 360, 541, 100_000,
    "", " ", "x", "²", "٣", "1e999", "NaN", "a" * 5000, "\x00", "\n", "\u202e", "é", "../../etc", "/", "infinity", "0",
    [], [0], [[]], {}, {"": 0}, [None] * 300,
)  # fmt: skip
_RAW = (
    b"NaN", b"-Infinity", b"1e999", b"9" * 400, b"9" * 5000, b"[" * 100_000, b'{"a":' * 5000, b'"\\ud800"', b'"\xff"',
    b"\xff\xfe{\x00}\x00", b"\xef\xbb\xbf", b"", b"//", b"0x10", b"01", b".5", b"'a'", b"\x00",
)  # fmt: skip


@lru_cache(maxsize=1)
def sound_documents() -> dict[str, bytes]:
    """A full document of each kind, by kind."""
    site = Site("the terrace", 57.0, -26.0, "2026-05-14", "18:40", 0.0, 18.0, (Stop("the pier", 20.0, 10.0),))
    brief = Brief(scene=Scene(marks=(Mark("a mast", 10.0),)), site=site)
    plan = make_plan(brief)
    refs = tuple(
        FrameRef(f"frames/f{i}.jpg", i, 30.0 * i, 0.0, 0.0, "t", f"id-{i}", "a" * 64, (60.0, 40.0)) for i in (1, 2)
    )
    outing = Outing(
        "An evening", "2026-05-14T18:00", brief, (GridFrame(1, 1, 1, 0.0, 0.0),), refs,
        groups=(CaptureGroup("g", "bracket", ("id-1", "id-2"), "id-1"),),
        choices=JoinChoices(
            masks=(MaskRef("id-1", "b" * 64),), points=(TiePoint("id-1", (1.0, 2.0), "id-2", (3.0, 4.0)),),
        ),
        composition=Composition(box=CropBox(0, 0, 10, 10, (3.0, 2.0))),
        finish=Recipe((ExposureStep(ev=0.5, mask=Round(centre_deg=(0.0, 5.0), radius_deg=9.0)), Curve())),
        delivery=DeliverJob(operations=(CoverNadir("mark", 14.0, "c" * 64), TellInvented())),
    )  # fmt: skip
    gear = [{"kind": "lens", "name": "a lens", "facts": {"shortest_mm": 20, "longest_mm": 40, "rail": [[24.0, 81.0]]}}]
    parts = {k: v for k, v in json.loads(document.to_text(outing))["brief"].items() if k != "kind"}
    return {
        "outing": document.to_text(outing).encode(),
        "spec": json.dumps({"schema": "idle-lantern/plan-spec/1", "kind": "rows", **parts}).encode(),
        "plan": json.dumps(plan_document(plan)).encode(),
        "frames": plan_csv(plan).encode(),
        "prior": prior_text(["a.jpg", "b.jpg"], [(0.0, 0.0, 0.0), (30.0, 0.0, 0.0)]).encode(),
        "gear": json.dumps({"schema": "idle-lantern/gear/1", "entries": gear}).encode(),
        "settings": json.dumps(asdict(settings.Settings())).encode(),
    }


def mutated(kind: str, rng: Random) -> bytes:
    """The sound document of a kind with one to three faults."""
    data = sound_documents()[kind]
    if kind == "frames" or rng.random() < 0.25:
        for _ in range(rng.choice((1, 1, 3))):
            data = _text_changed(data, rng)
        return data
    value = json.loads(data)
    for _ in range(rng.choice((1, 1, 2, 3))):
        value = _value_changed(value, rng)
    text = json.dumps(value, ensure_ascii=rng.random() < 0.5)
    return text.encode("utf-8", "surrogatepass")


def read_as(kind: str, data: bytes, folder: Path) -> None:
    """Read a document by the way the program reads that kind, and use it as the program would."""
    READERS[kind](data, folder)


def _outing(data: bytes, folder: Path) -> None:
    path = folder / document.DOCUMENT
    path.write_bytes(data)
    try:
        outing = document.load(folder)
        # what was taken in can be planned, judged, kept and read again as the same
        judge(make_plan(_briefly(outing.brief), frames=outing.given_frames))
        assert schema.checked(json.loads(document.to_text(outing)), "again") == outing
    finally:
        assert path.read_bytes() == data, "a document that is read is never changed"


def _spec(data: bytes, _folder: Path) -> None:
    judge(make_plan(_briefly(read_spec(data.decode("utf-8", "surrogateescape")))))


def _frames(data: bytes, _folder: Path) -> None:
    read_frames_csv(data.decode("utf-8", "replace"))


def _prior(data: bytes, folder: Path) -> None:
    (folder / "prior.json").write_bytes(data)
    read_prior(folder / "prior.json")


def _gear(data: bytes, folder: Path) -> None:
    (folder / "gear.sqlite").unlink(missing_ok=True)
    library = Library(folder / "gear.sqlite")
    before = library.entries()
    try:
        library.take_text(data.decode("utf-8", "surrogateescape"))
    except Exception:
        assert library.entries() == before, "a bad list changes nothing"
        raise
    library.to_text()


def _settings(data: bytes, _folder: Path) -> None:
    path = settings.config_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    settings.load()


READERS: dict[str, Callable[[bytes, Path], None]] = {
    "outing": _outing,
    "spec": _spec,
    "plan": _spec,
    "frames": _frames,
    "prior": _prior,
    "gear": _gear,
    "settings": _settings,
}


def _briefly(brief: Brief) -> Brief:
    """Plans of tens of thousands of frames are sound and slow; the length of a case is watched."""
    return brief if brief.rig.focal_mm < 100 else replace(brief, rig=replace(brief.rig, focal_mm=100.0))


def _places(value: Any, at: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    below = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [at, *(p for key, v in below for p in _places(v, (*at, key)))]


def _value_changed(value: Any, rng: Random) -> Any:
    place = rng.choice(_places(value))
    if not place:
        return rng.choice((value, rng.choice(_ODD)))
    whole = json.loads(json.dumps(value))
    holder = whole
    for key in place[:-1]:
        holder = holder[key]
    key, old = place[-1], holder[place[-1]]
    what = rng.randrange(8)
    if what == 0:
        del holder[key]
    elif what == 1 and isinstance(holder, dict):
        holder[rng.choice(("odd", "", "é", "a" * 3000, key + "2"))] = rng.choice(_ODD)
    elif what == 2 and isinstance(holder, list):
        holder += [old] * rng.choice((1, 3, 2000))
    elif what == 3:
        for _ in range(rng.choice((2, 30, 60, 200))):
            old = [old]
        holder[key] = old
    elif what == 4 and isinstance(old, (int, float)) and not isinstance(old, bool) and abs(old) < 1e15:
        holder[key] = rng.choice((-old, old * 10, old / 10, old + 0.5, old * 1e6, str(old), rng.uniform(-400, 400)))
    else:
        holder[key] = rng.choice(_ODD)
    return whole


def _text_changed(data: bytes, rng: Random) -> bytes:
    at = rng.randrange(len(data) + 1)
    what = rng.randrange(4)
    if what == 0:
        return data[:at]
    if what == 1:
        return data[:at] + rng.choice(_RAW) + data[at:]
    if what == 2:
        return data[:at] + bytes([rng.randrange(256)]) + data[at + 1 :]
    end = min(len(data), at + rng.randrange(60))
    return data[:at] + data[end:]
