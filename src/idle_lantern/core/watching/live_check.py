"""Frames judged one by one as they arrive: placed against those before, and told what is wrong while it can be shot again.

A frame is looked at as the join will look at it: points, matches, one rotation. What differs from its neighbours over the ground
that both show (sharpness, brightness) is asked with the same measures as the careful look at a whole card.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import numpy as np

from idle_lantern.core.audit.evenness import light_of_run
from idle_lantern.core.base import units
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.decoders import raw
from idle_lantern.core.frames.reading import FrameInfo, probe
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.inspection.overlaps import Overlap, overlaps_of
from idle_lantern.core.inspection.sharpness import Compared, blurs, compared
from idle_lantern.core.plan.coverage import covered, samples_of
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.planner import Plan
from idle_lantern.core.registration.match.features import Features, WorkingFrame, find_features, working_frame
from idle_lantern.core.registration.match.links import Link
from idle_lantern.core.registration.match.pairs import match
from idle_lantern.core.registration.match.verify import verify
from idle_lantern.core.registration.solve.level import Level, levelled
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.watching.faults import (
    FrameFault,
    another_lens,
    blurred,
    full_white,
    misplaced,
    settings_changed,
    uneven,
    unmatched,
)

_LOOK_MP = 0.35  # size of the first look
_POINTS = 1500  # sought at that size
_WITHIN_PX = 2.0  # how far a match may lie off the rotation at that size
#: Frames that a new one is matched against, nearest first; those whose sharpness it is compared with.
_PARTNERS, _CLOSE = 6, 2
#: A hole narrower than this at the rim of the wanted field is left to the crop.
_RIM_DEG = 2.0
#: Of how many frames is held.
_HELD = 5  # full-size brightness
_LOOKS = 60  # the look at them
_FEATURED = 400  # their points
#: The turning axis is known well enough from so many frames.
_LEAN_FRAMES = 3

Kind = Literal["good", "care", "again"]


@dataclass(frozen=True)
class Judged:
    """A frame that arrived.

    Attributes
    ----------
    number : int or None
        The planned frame that it stands for.
    angles_deg : (yaw, pitch, roll) or None
        Where it looks; None where nothing in it matches and nothing else tells.
    placed_by : ``features``, ``plan`` or ``nothing``
    overlap, neighbour : float, str
        The largest share of it that an earlier frame shows too, and that frame's name.
    off_deg : (yaw, pitch, roll) or None
        How it differs from the plan.
    field_deg : (across, up) or None
        What it shows, by its own lens and size.
    """

    path: Path
    number: int | None
    angles_deg: tuple[float, float, float] | None
    placed_by: Literal["features", "plan", "nothing"]
    overlap: float
    neighbour: str
    off_deg: tuple[float, float, float] | None
    faults: tuple[FrameFault, ...]
    taken: str | None = None
    field_deg: tuple[float, float] | None = None

    @property
    def kind(self) -> Kind:
        """How it is told: good, to be taken care of, or to be shot again."""
        if any(f.again for f in self.faults):
            return "again"
        return "care" if self.faults else "good"

    @property
    def sentence(self) -> str:
        """The one thing to say of it."""
        name = f"Frame {self.number}" if self.number else self.path.name
        if self.faults:
            first = self.faults[0]
            return f"{name} {first.sentence}: {first.remedy}."
        if self.overlap:
            return f"{name} is good: {units.share(self.overlap)} of it overlaps {self.neighbour}."
        return f"{name} is good."


@dataclass
class _SeenFrame:
    path: Path
    info: FrameInfo
    lens: Lens
    look: WorkingFrame | None
    features: Features | None
    pose: Array
    number: int | None
    tied: bool
    grey: Array | None = None
    #: Whether later frames may be measured by it: one that is soft or of another exposure is no measure.
    fair: bool = True


@dataclass
class LiveCheck:
    """All frames of one run so far, against a plan."""

    plan: Plan
    _seen: list[_SeenFrame] = field(default_factory=list)

    def replan(self, plan: Plan) -> None:
        """Judge by another plan from now on; where frames lie stays."""
        self.plan = plan

    def look(self, path: Path, expected: GridFrame | None = None) -> Judged:
        """Judge a frame that is complete; ``expected`` is the planned frame that was to be shot.

        Raises
        ------
        UnreadableFrame
            It cannot be read.
        """
        info = probe(path)
        store = DecodedFrames([info])
        if info.raw:  # within the second or two that somebody waits beside the tripod
            store.keep(0, raw.glance(path))
        look = working_frame(0, store, _LOOK_MP)
        grey = store.grey(0)
        new = _SeenFrame(path, info, self._lens(info), look, find_features(look, _POINTS), np.eye(3), None, False, grey)
        links = self._links(new, expected)
        placed_by: Literal["features", "plan", "nothing"] = "features"
        if links:
            new.pose, new.tied = _pose(links), True
        elif expected is not None:
            new.pose, placed_by = expected.world_from_camera, "plan"
            new.tied = not self._seen  # the first frame is where it is said to be: all others follow
        elif not self._seen:
            new.tied = True
        else:
            placed_by = "nothing"
        faults = self._faults(new, links, expected, placed_by)
        planned = self._planned(new, expected) if placed_by != "nothing" else None
        new.number = planned.number if planned is not None else None
        overlap, neighbour = self._overlap(new) if placed_by == "features" else (0.0, None)
        off = _off(new.pose, planned) if planned is not None and placed_by == "features" else None
        faults += misplaced(new.lens, overlap, _called(neighbour) if neighbour else "", planned, off)
        if placed_by != "nothing":
            new.fair = not any(f.again and f.what in ("blur", "exposure") for f in faults)
            self._seen.append(new)
            self._let_go()
        angles = None if placed_by == "nothing" else _angles(new.pose)
        return Judged(
            path, new.number, angles, placed_by, overlap, _called(neighbour) if neighbour else "", off,
            tuple(sorted(faults, key=lambda f: not f.again)), info.metadata.taken, _field_deg(new.lens),
        )  # fmt: skip

    def remember(self, path: Path, angles_deg: tuple[float, float, float], number: int | None) -> None:
        """Take over a frame that was shot and placed before, so that new ones are matched against it.

        Raises
        ------
        UnreadableFrame
            It cannot be read.
        """
        info = probe(path)
        look = working_frame(0, DecodedFrames([info]), _LOOK_MP, glance=True)
        pose = rotations.from_yaw_pitch_roll(*np.radians(angles_deg))
        self._seen.append(
            _SeenFrame(path, info, self._lens(info), look, find_features(look, _POINTS), pose, number, True)
        )

    def holes(self, still_planned: Sequence[GridFrame]) -> tuple[tuple[float, float], ...]:
        """Directions (yaw, pitch) of the wanted field that neither a placed frame nor one that is still to come will show.

        Its rim is left to the crop: a base that leans a little moves it by as much.
        """
        if not self._seen:
            return ()
        field = self.plan.target_field
        rim = min(_RIM_DEG, field.sweep_deg / 10, (field.high_deg - field.low_deg) / 10)
        ends = 0.0 if field.full_circle else rim
        inner = replace(
            field,
            left_deg=field.left_deg + ends,
            right_deg=field.right_deg - ends,
            low_deg=field.low_deg + rim,
            high_deg=field.high_deg - rim,
        )
        samples = samples_of(inner, 1200)
        open_ = np.ones(len(samples), bool)
        for lens in {s.lens for s in self._seen}:
            open_ &= ~covered(lens, np.stack([s.pose for s in self._seen if s.lens == lens]), samples)
        if still_planned:
            poses = np.stack([f.world_from_camera for f in still_planned])
            open_ &= ~covered(self.plan.rig.lens(), poses, samples)
        left = samples[open_]
        azimuth, altitude = np.degrees(np.arctan2(left[:, 0], left[:, 2])), np.degrees(np.arcsin(-left[:, 1]))
        return tuple(zip(azimuth.tolist(), altitude.tolist()))

    def lean(self) -> Level | None:
        """How the turning axis leans against what stands upright in the frames; None before three frames of a row tell it."""
        tied = [(s, s.look) for s in self._seen if s.tied and s.look is not None]
        if len(tied) < _LEAN_FRAMES:
            return None
        poses = Poses(tuple(range(len(tied))), tuple(s.lens for s, _ in tied), np.stack([s.pose for s, _ in tied]))
        return levelled(poses, [look for _, look in tied])[1]

    # --- parts ------------------------------------------------------------------

    def _let_go(self) -> None:
        """Of frames long past only where they lie is kept: a day of shooting takes no more memory than its last hour."""
        for keep, part in ((_HELD, "grey"), (_LOOKS, "look"), (_FEATURED, "features")):
            if len(self._seen) > keep:
                setattr(self._seen[-keep - 1], part, None)

    def _lens(self, info: FrameInfo) -> Lens:
        """The plan's lens at the frame's own size, by the focal length that the file tells where it does."""
        rig = self.plan.rig
        told = info.metadata.focal_px(info.width, info.height)
        focal = told or rig.focal_px * max(info.width, info.height) / max(rig.frame_px)
        planned = rig.lens()
        circle = planned.circle_px * max(info.width, info.height) / max(planned.width, planned.height)
        return Lens(rig.lens_model, focal, info.width, info.height, circle_px=circle)

    def _links(self, new: _SeenFrame, expected: GridFrame | None) -> list[tuple[_SeenFrame, Link]]:
        """Earlier frames that a rotation ties it to: the last ones, and those that lie about where it is expected."""
        found: list[tuple[_SeenFrame, Link]] = []
        rng = np.random.default_rng(len(self._seen))
        assert new.look is not None
        tolerance = _WITHIN_PX * new.look.scale[0]
        for old in self._partners(expected):
            assert old.features is not None
            assert new.features is not None
            first, second = match(old.features, new.features)
            if len(first) < 8:
                continue
            link = Link(0, 1, old.features.points_px[first], new.features.points_px[second])
            verified = verify(link, old.lens, new.lens, tolerance, rng)
            if verified is not None:
                found.append((old, verified))
        return found

    def _partners(self, expected: GridFrame | None) -> list[_SeenFrame]:
        tied = [s for s in self._seen if s.tied and s.features is not None]
        if expected is None:
            return tied[::-1][: 2 * _PARTNERS]
        toward = expected.world_from_camera[:, 2]
        near = sorted(tied, key=lambda s: -float(s.pose[:, 2] @ toward))
        chosen = [*near[:_PARTNERS], *(s for s in tied[-2:] if s not in near[:_PARTNERS])]
        # a frame that lies elsewhere than it should may still fit somewhere
        return [*chosen, *(s for s in near[_PARTNERS : 2 * _PARTNERS] if s not in chosen)]

    def _planned(self, new: _SeenFrame, expected: GridFrame | None) -> GridFrame | None:
        """The planned frame that it stands for: the expected one, unless it clearly shows another one's place."""
        wide, tall = new.lens.field_rad()
        reach = min(wide, tall) / 2

        def away(frame: GridFrame) -> float:
            return math.acos(max(-1.0, min(1.0, float(frame.world_from_camera[:, 2] @ new.pose[:, 2]))))

        if expected is not None and away(expected) < reach:
            return expected
        nearest = min(self.plan.frames, key=away, default=None)
        return nearest if nearest is not None and away(nearest) < reach else None

    def _near(self, new: _SeenFrame) -> tuple[list[_SeenFrame], Poses, list[Overlap]]:
        """The frames that overlap most, with it in front, and what they share with it."""
        tied = [s for s in self._seen if s.tied]
        tied = sorted(tied, key=lambda s: -float(s.pose[:, 2] @ new.pose[:, 2]))[: 2 * _PARTNERS]
        poses = Poses(
            tuple(range(len(tied) + 1)),
            (new.lens, *(s.lens for s in tied)),
            np.stack([new.pose, *(s.pose for s in tied)]),
        )
        shared = sorted((o for o in overlaps_of(poses) if o.i == 0), key=lambda o: -o.share)
        return tied, poses, shared

    def _overlap(self, new: _SeenFrame) -> tuple[float, _SeenFrame | None]:
        """The largest share that an earlier frame shows too, but for one of the same place that it repeats."""
        tied, _poses, shared = self._near(new)
        again = 0.05 * min(new.lens.field_rad())
        for overlap in shared:
            other = tied[overlap.j - 1]
            if math.acos(max(-1.0, min(1.0, float(other.pose[:, 2] @ new.pose[:, 2])))) > again:
                return overlap.share, other
        return 0.0, None

    def _faults(
        self, new: _SeenFrame, links: list[tuple[_SeenFrame, Link]], expected: GridFrame | None, placed_by: str
    ) -> list[FrameFault]:
        assert new.look is not None
        faults = settings_changed([s.info.metadata for s in self._seen], new.info.metadata)
        if not self._seen:  # once: the frames after it are alike
            faults += another_lens(_field_deg(new.lens), _field_deg(self.plan.rig.lens()))
        faults += full_white(new.look.picture.pixels)
        if placed_by == "features" and links:
            faults += self._beside_neighbours(new)
        elif self._seen:
            faults.append(unmatched(len(new.features or ()), expected))
        return faults

    def _beside_neighbours(self, new: _SeenFrame) -> list[FrameFault]:
        """Blur and brightness against the frames that overlap most."""
        tied, poses, shared = self._near(new)
        shared = [o for o in shared if tied[o.j - 1].fair]
        held = [o for o in shared if tied[o.j - 1].grey is not None][:_CLOSE]
        pairs = compared(poses, held, lambda i: _grey(new if i == 0 else tied[i - 1]))
        faults = blurred(blurs(3, _thrice(pairs)).get(0))
        best = [o for o in shared if tied[o.j - 1].look is not None][:_CLOSE]
        if best:
            chosen = [tied[o.j - 1] for o in best]
            chosen = [*chosen, *chosen][:2]
            three = Poses(
                (0, 1, 2), (new.lens, *(s.lens for s in chosen)), np.stack([new.pose, *(s.pose for s in chosen)])
            )
            both = [*best, *best][:2]
            looks = [s.look for s in (new, *chosen) if s.look is not None]
            beside = [replace(o, i=0, j=k) for k, o in enumerate(both, 1)]
            found = light_of_run(three, beside, looks, veils=False).unevenness().get(0)
            faults += uneven(found.brighter_ev if found is not None else 0.0)
        return faults


def _pose(links: list[tuple[_SeenFrame, Link]]) -> Array:
    """World from camera by all links, each weighed by its agreeing points."""
    total = np.zeros((3, 3))
    for old, link in links:
        total += link.inliers * (old.pose @ link.b_from_a.T)
    return rotations.nearest(total)


def _field_deg(lens: Lens) -> tuple[float, float]:
    across, up = lens.field_rad()
    return math.degrees(across), math.degrees(up)


def _angles(pose: Array) -> tuple[float, float, float]:
    yaw, pitch, roll = (round(math.degrees(float(a)), 3) for a in rotations.to_yaw_pitch_roll(pose))
    return yaw, pitch, roll


def _off(pose: Array, planned: GridFrame) -> tuple[float, float, float]:
    """How a frame differs from the plan, as yaw, pitch and roll."""
    yaw, pitch, roll = _angles(pose)
    return (
        (yaw - planned.yaw_deg + 180) % 360 - 180,
        pitch - planned.pitch_deg,
        (roll - planned.roll_deg + 180) % 360 - 180,
    )


def _called(seen: _SeenFrame) -> str:
    return f"frame {seen.number}" if seen.number else seen.path.name


def _grey(seen: _SeenFrame) -> Array:
    assert seen.grey is not None
    return seen.grey


def _thrice(pairs: Sequence[Compared]) -> list[Compared]:
    """The new frame against two neighbours; a single one stands for both, so that all of a difference is the new frame's."""
    found = [replace(pair, j=k) for k, pair in enumerate(pairs[:2], 1)]
    return found if len(found) != 1 else [found[0], replace(found[0], j=2)]
