"""Runs of a card -> what is wrong with their frames: rows, overlaps, blur, exposure, settings, dust."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import cv2
import numpy as np

from idle_lantern.core.audit import lattice
from idle_lantern.core.audit.evenness import LEAST_EV, light_of_run
from idle_lantern.core.audit.findings import Finding, worst_first
from idle_lantern.core.audit.focus import Refocused, refocused
from idle_lantern.core.audit.parts import Part, is_bare, parts_of
from idle_lantern.core.audit.settings import setting_findings, short_brackets
from idle_lantern.core.audit.veiling_flare import Flare, SkyBand, flares, sky_band
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.compositing.light.dust import alike_held, spots
from idle_lantern.core.frames.reading import FrameInfo, read, read_again, sound_jpeg
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.inspection.dust_in_overlaps import spots_in_overlaps
from idle_lantern.core.inspection.overlaps import Overlap, overlaps_of
from idle_lantern.core.inspection.sharpness import Blur, blurs, compared
from idle_lantern.core.merging.prepared import prepared_folder
from idle_lantern.core.registration.match.features import WorkingFrame
from idle_lantern.core.registration.solve.solve import Solution, working_of
from idle_lantern.core.sorting.card import Card
from idle_lantern.core.sorting.positions import Position

_KEPT_BYTES = 250_000_000
#: Share of a frame that may be full white before it is told; a sun and its glints stay below.
_CLIPPED = 0.04


@dataclass(frozen=True)
class RunReport:
    """A run looked at: where its frames lie, what is missing, and how the rest does."""

    name: str
    positions: tuple[Position, ...]
    missing: tuple[lattice.Missing, ...] = ()
    directions_deg: dict[Path, tuple[float, float, float]] = field(default_factory=dict)
    lens: Lens | None = None


@dataclass(frozen=True)
class CardReport:
    """A card looked at; ``strays`` match nothing and show something."""

    card: Card
    runs: tuple[RunReport, ...]
    strays: tuple[Path, ...]
    findings: tuple[Finding, ...]


def audit_card(card: Card, progress: Progress = SILENT, *, prepared: Path | None = None) -> CardReport:
    """Look at every frame of every run.

    Raises
    ------
    Cancelled
        Stopped by ``progress``.
    """
    runs: list[RunReport] = []
    strays: list[Path] = []
    findings = [
        Finding(
            Path(e.where),
            "unreadable",
            1.0,
            "",
            e.what,
            e.remedy or "Copy it from the card again or leave it out",
            cure="leave_out",
        )
        for e in card.unreadable
    ]
    for run in card.runs:
        found = _Audit(run.name, list(run.positions), progress, prepared or prepared_folder())
        found.look()
        runs += found.runs
        strays += found.strays
        findings += found.findings
    named = tuple(replace(run, name=f"run {i}") for i, run in enumerate(runs, 1))
    return CardReport(card, named, tuple(strays), tuple(worst_first(findings)))


class _Audit:
    """One run of a card; it may fall into several where nothing ties its parts."""

    def __init__(self, name: str, positions: list[Position], progress: Progress, prepared: Path) -> None:
        self.name, self.positions, self.progress, self.prepared = name, positions, progress, prepared
        self.runs: list[RunReport] = []
        self.strays: list[Path] = []
        self.findings: list[Finding] = []

    def look(self) -> None:
        self.findings += setting_findings(self.positions) + short_brackets(self.positions)
        self.findings += [f for p in self.positions if (f := _clipped(p)) is not None]
        try:
            found = parts_of(self.positions, self.prepared, self.progress)
            for part in found.parts:
                self.runs.append(self._run(part))
            self.strays += [p.base.path for p in found.strays]
            self.findings += [_featureless(p.base.path) for p in found.featureless]
        except LanternError as error:
            path = next(
                (p.base.path for p in self.positions if p.base.path.name in error.where), self.positions[0].base.path
            )
            self.findings.append(Finding(path, "unreadable", 1.0, "", error.what, error.remedy, cure="leave_out"))
            rest = [p for p in self.positions if p.base.path != path]
            again = _Audit(self.name, rest, self.progress, self.prepared)
            again.look()
            self.runs += again.runs
            self.strays += again.strays
            self.findings += [f for f in again.findings if f not in self.findings]

    def _run(self, part: Part) -> RunReport:
        solution, positions = part.solution, part.solved
        if solution is None:
            return RunReport(self.name, part.positions)
        poses = solution.poses
        paths = [positions[f].base.path for f in poses.frames]
        overlaps = overlaps_of(poses)
        kept: SizedCache[int, Array] = SizedCache(
            lambda i: _grey(solution.frames.infos[poses.frames[i]]), lambda g: int(g.nbytes), _KEPT_BYTES
        )
        self.progress.begin("look closely", 1)
        pairs = compared(poses, overlaps, kept.load)
        soft = blurs(len(poses.frames), pairs)
        self.progress.advance()
        for i, blur in soft.items():
            self.findings.append(_blurred(paths[i], blur, positions[poses.frames[i]]))
        for i, moved in refocused(pairs).items():
            if i not in soft:
                self.findings.append(_refocused(paths[i], moved, paths[moved.neighbour]))
        working = working_of(solution)
        light = light_of_run(poses, overlaps, working)
        veiled = flares(poses, light)
        for i, flare in veiled.items():
            self.findings.append(_flared(paths[i], flare))
        band = sky_band(poses, working)
        if band is not None:
            self.findings.append(_polarised(paths[band.frame], band))
        measured = light.unevenness()
        self.findings = _as_measured(self.findings, {paths[i]: u.brighter_ev for i, u in measured.items()})
        told = {(f.path, f.what) for f in self.findings}
        for i, uneven in measured.items():
            if i in veiled:
                continue  # what lies over it is neither another exposure nor another colour
            if uneven.tells_ev and (paths[i], "exposure") not in told:
                self.findings.append(_uneven(paths[i], uneven.brighter_ev))
            if uneven.tells_colour:
                self.findings.append(_coloured(paths[i], uneven.warmer_k))
        for i, (share, other) in lattice.best_overlaps(poses, overlaps).items():
            if share < lattice.LEAST_OVERLAP and len(poses.frames) > 1:
                self.findings.append(_narrow(paths[i], share, paths[other] if other >= 0 else None))
        for i, (roll, pitch) in lattice.tilted(poses).items():
            self.findings.append(_tilted(paths[i], roll, pitch))
        self.findings += _dusty(solution, overlaps, working, paths)
        for i, way in solution.placed_by.items():
            if way != "features":
                self.findings.append(_featureless(positions[i].base.path))
        angles = lattice.angles_deg(poses)
        directions = {path: (float(a[0]), float(a[1]), float(a[2])) for path, a in zip(paths, angles)}
        bare = [
            f for f, p in enumerate(positions) if f not in poses.frames and p in part.positions and is_bare(solution, f)
        ]
        return RunReport(self.name, part.positions, tuple(lattice.missing(poses, bare)), directions, poses.lenses[0])


def _grey(info: FrameInfo) -> Array:
    pixels = (read_again(info) if sound_jpeg(info) else read(info.path)).pixels
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    return np.asarray(cv2.cvtColor(pixels, cv2.COLOR_RGB2GRAY))


def _blurred(path: Path, blur: Blur, position: Position) -> Finding:
    repeats = len(position.looks) > 1 and position.role == "repeat"
    remedy = "Use a repeat of it" if repeats else "Leave it out if its neighbours still overlap, else shoot it again"
    cure = "use_repeat" if repeats else "leave_out"
    if blur.shake_px:
        along = (
            "across"
            if abs(blur.direction_deg) < 22.5
            else "up and down"
            if abs(blur.direction_deg) > 67.5
            else "slanting"
        )
        sentence = f"Shaken by {blur.shake_px:.1f} px, {along}: its neighbours show the same ground sharp"
        return Finding(path, "shake", blur.shake_px, "px", sentence, remedy, blur.u, blur.v, cure)
    sentence = f"Softer than its neighbours by {blur.sigma_px:.1f} px over the same ground"
    return Finding(path, "blur", blur.sigma_px, "px", sentence, remedy, blur.u, blur.v, cure)


def _refocused(path: Path, moved: Refocused, neighbour: Path) -> Finding:
    return Finding(
        path, "focus", moved.sigma_px, "px",
        f"Focused elsewhere than {neighbour.name}: some things lost {moved.sigma_px:.1f} px of sharpness that others gained",
        "Leave it out if its neighbours still overlap; lock the focus by hand for a run", moved.u, moved.v, "leave_out",
    )  # fmt: skip


def _flared(path: Path, flare: Flare) -> Finding:
    return Finding(
        path, "flare", flare.ev, "EV",
        f"A veil of {flare.ev:.1f} EV lies over {100 * flare.share:.0f} % of it that its neighbours do not have there",
        "Give the neighbour the way there, or shade the lens and shoot it again", flare.u, flare.v,
    )  # fmt: skip


def _polarised(path: Path, band: SkyBand) -> Finding:
    return Finding(
        path, "polariser", band.ev, "EV",
        f"The sky has a band near yaw {(band.yaw_deg + 180) % 360 - 180:.0f}° that is {band.ev:.1f} EV darker and bluer than on either side",
        "Wide skies come out even without a polariser; lift the band when finishing",
    )  # fmt: skip


def _as_measured(findings: Sequence[Finding], brighter_ev: dict[Path, float]) -> list[Finding]:
    """What the files tell of exposure and ISO, where the ground itself shows that the brightness is alike: only noise differs."""
    kept = []
    for finding in findings:
        alike = abs(brighter_ev.get(finding.path, math.inf)) < LEAST_EV
        if alike and finding.what == "exposure" and finding.cure == "even_out":
            continue
        if alike and finding.what == "iso":
            sentence = f"{finding.sentence}, and is as bright as its neighbours"
            finding = replace(
                finding, sentence=sentence, remedy="Only its noise differs: nothing is to be done", cure=""
            )
        kept.append(finding)
    return kept


def _uneven(path: Path, ev: float) -> Finding:
    word = "brighter" if ev > 0 else "darker"
    return Finding(
        path, "exposure", ev, "EV", f"{abs(ev):.1f} EV {word} than its neighbours over the same ground",
        "Even it out; the join does so by itself as far as nothing is clipped", cure="even_out",
    )  # fmt: skip


def _coloured(path: Path, kelvin: float) -> Finding:
    word = "warmer" if kelvin > 0 else "cooler"
    return Finding(
        path, "white_balance", kelvin, "K", f"Some {abs(kelvin):.0f} K {word} than its neighbours over the same ground",
        "Even it out; set one white balance for the whole run", cure="even_out",
    )  # fmt: skip


def _narrow(path: Path, share: float, other: Path | None) -> Finding:
    with_whom = f" with {other.name}" if other is not None else ""
    return Finding(
        path, "overlap", 100 * share, "%", f"Overlaps by {100 * share:.0f} % only{with_whom}",
        "Set tie points by hand if the join misses it, and shoot with a third of overlap",
    )  # fmt: skip


def _tilted(path: Path, roll: float, pitch: float) -> Finding:
    if abs(roll) >= abs(pitch):
        side = "right" if roll > 0 else "left"
        return Finding(
            path,
            "tilt",
            roll,
            "°",
            f"Leans {abs(roll):.1f}° to the {side} of its row",
            "The join turns it level; the crop loses height",
        )
    word = "above" if pitch > 0 else "below"
    return Finding(path, "tilt", pitch, "°", f"Points {abs(pitch):.1f}° {word} its row", "The crop loses height there")


def _featureless(path: Path) -> Finding:
    return Finding(
        path, "featureless", 0.0, "", "Shows hardly any detail: nothing to match",
        "It is placed by plan or by the even steps of its row; look at its seams at 100 %",
    )  # fmt: skip


def _clipped(position: Position) -> Finding | None:
    """Full white over more than a few per cent, where no darker exposure of the place tells what is there."""
    look = position.base
    share = float((look.grey > 0.985).mean())
    if share < _CLIPPED or min(position.ev) < -0.5:
        return None
    at = np.argwhere(look.grey > 0.985).mean(0)
    scale = look.info.width / look.grey.shape[1]
    return Finding(
        look.path, "clipped", 100 * share, "%", f"{100 * share:.0f} % of it is full white, without drawing",
        "Expose less there, or take a darker exposure at this position", float(at[1] * scale), float(at[0] * scale),
    )  # fmt: skip


def _dusty(
    solution: Solution, overlaps: Sequence[Overlap], working: Sequence[WorkingFrame], paths: Sequence[Path]
) -> list[Finding]:
    """Spots on the sensor; frames that were held another way are compared among themselves only."""
    held = alike_held([solution.frames.infos[f] for f in solution.poses.frames])
    found = spots_in_overlaps(solution.poses, overlaps, working, held)
    for spot in spots([working[i] for i in held]):
        if all(math.hypot(spot.u - s.u, spot.v - s.v) > spot.size_px + s.size_px for s in found):
            found.append(spot)
    return [
        Finding(
            paths[0], "dust", 100 * spot.loss, "%",
            f"Dust on the sensor: a spot of {spot.size_px:.0f} px at the same place in {len(held)} frames takes {100 * spot.loss:.0f} % of the light",
            "Clean the sensor; where a neighbour shows the place clean, the join lets that one show", spot.u, spot.v,
        )
        for spot in found
    ]  # fmt: skip
