"""Frames -> points, matches and verified links: a quick look at all of them, a closer one where that is not enough."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.checkpoint import Checkpoint
from idle_lantern.core.base.errors import UnreadableFrame
from idle_lantern.core.base.parallel import Clock, mapped
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet, refuse_unreadable
from idle_lantern.core.geometry.lenses import Lens
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.registration.match.features import Features, FindFeatures, WorkingFrame, working_frame
from idle_lantern.core.registration.match.image_circle import image_circle_px
from idle_lantern.core.registration.match.lens_guess import LOOSE_SHARE, guess_lenses
from idle_lantern.core.registration.match.links import Link, groups_of
from idle_lantern.core.registration.match.other_zooms import Zoomed, other_zooms
from idle_lantern.core.registration.match.pairs import candidate_pairs, match_pair
from idle_lantern.core.registration.match.repetition import Repetition, repetition
from idle_lantern.core.registration.match.verify import verify
from idle_lantern.core.request.options import JoinOptions

#: Matches of a link that a quick look may rely on.
_TIED_WELL = 30
#: A closer look takes in what is linked to a weakly tied frame over so many links.
_AROUND = 2
#: Where that is more than this share of the frames, all are looked at.
_MOST_OF = 0.7


@dataclass(frozen=True)
class Matched:
    """What looking at the frames gave, lists by index into the set.

    ``working_mp`` is the size, in millions of pixels, at which most of them were looked at; ``lens_labels`` tell frames apart that
    were zoomed or cropped, empty where none was; ``raw`` are all matches, ``links`` those that agree; ``repeating`` frames match
    in several places alike.
    """

    working: list[WorkingFrame]
    features: list[Features]
    links: list[Link]
    lenses: list[Lens]
    working_mp: float
    lens_labels: tuple[int, ...] = ()
    raw: tuple[Link, ...] = ()
    repeating: frozenset[int] = frozenset()

    def under(self, zoomed: Zoomed, rng: np.random.Generator) -> Matched:
        """The same under other lenses."""
        links = _explained(self.raw, zoomed.lenses, rng)
        return replace(self, links=links, lenses=zoomed.lenses, lens_labels=zoomed.labels)


def detect_and_match(
    frames: FrameSet,
    store: DecodedFrames,
    options: JoinOptions,
    prior: Sequence[Array | None],
    rng: np.random.Generator,
    progress: Progress,
    clock: Clock,
    checkpoint: Checkpoint,
    runner: Runner,
) -> Matched:
    """Points and links of all frames; ``prior`` are rotations (3, 3) where they are known.

    A quick look ties most sets. What it leaves apart, or ties weakly, is looked at more closely, and so are the
    frames about it. Finished looks are taken up from ``checkpoint``, where an earlier run was killed.
    """
    everything = list(range(len(frames)))
    size = options.working_mp
    working, features = _points(store, everything, size, options, progress, clock, checkpoint, runner)
    with clock.stage("match"):
        circle_px = image_circle_px(working)
        raw = _matched(frames, everything, features, prior, options, progress)
        links, lenses, labels = _verified(frames, raw, rng, circle_px, options.lens)
        progress.advance()
    closer = seen_closer(len(frames), links)
    if not closer or size >= max(i.megapixels for i in frames.infos):
        return Matched(working, features, links, lenses, size, labels, tuple(raw))
    seen, points = _points(store, closer, options.second_mp, options, progress, clock, checkpoint, runner)
    features = list(features)
    for f, found in zip(closer, points):
        features[f] = found
    if closer == everything:
        working, size = seen, options.second_mp
    with clock.stage("match"):
        again = set(closer)
        raw = [k for k in raw if not {k.a, k.b} <= again]
        raw += _matched(frames, closer, features, prior, options, progress)
        links, lenses, labels = _verified(frames, raw, rng, circle_px, options.lens)
        more = None if circle_px is not None or labels else _of_what_repeats(frames, features, working, lenses, links)
        progress.advance()
    matched = Matched(working, features, links, lenses, size, labels, tuple(raw))
    if more is None:
        return matched
    if more.links:
        links = _explained(raw, more.lenses, rng)
        tied = {(k.a, k.b) for k in more.links}  # what usual matches made of these may be a window off
        links = [*(k for k in links if (k.a, k.b) not in tied), *more.links]
        matched = replace(matched, links=links, lenses=more.lenses)
    return replace(matched, repeating=more.frames)


def _of_what_repeats(
    frames: FrameSet,
    features: Sequence[Features],
    working: Sequence[WorkingFrame],
    lenses: Sequence[Lens],
    links: Sequence[Link],
) -> Repetition | None:
    """What ties frames that usual matches leave apart, where that is since what they show repeats."""
    groups = groups_of(len(features), links)
    if len(groups) == 1 or any(lens.model != "rectilinear" for lens in lenses):
        return None
    main = groups[0] if len(groups[0]) > 1 else []
    told = all(i.metadata.focal_px(i.width, i.height) for i in frames.infos)
    apart = [f for f in range(len(features)) if f not in main]
    return repetition(features, working, lenses, apart, focal_known=told or len(main) > 2)


def look_and_match(
    frames: FrameSet,
    store: DecodedFrames,
    options: JoinOptions,
    progress: Progress,
    clock: Clock,
    checkpoint: Checkpoint,
    runner: Runner,
) -> tuple[list[Features], list[Link]]:
    """Points, and matches that nothing has verified yet: for sets that do not turn."""
    everything = list(range(len(frames)))
    _working, features = _points(store, everything, options.second_mp, options, progress, clock, checkpoint, runner)
    with clock.stage("match"):
        raw = _matched(frames, everything, features, [None] * len(frames), options, progress)
    return features, raw


def seen_closer(count: int, links: Sequence[Link]) -> list[int]:
    """Frames of which a closer look is worth its cost: all where some stand apart, else those about a weak tie."""
    if len(groups_of(count, links)) > 1:
        return list(range(count))
    firm = groups_of(count, [k for k in links if k.inliers >= _TIED_WELL])[0]
    near = set(range(count)) - set(firm)
    for _ in range(_AROUND):
        near |= {f for k in links if k.a in near or k.b in near for f in (k.a, k.b)}
    return sorted(near) if len(near) <= _MOST_OF * count else list(range(count))


def _points(
    store: DecodedFrames,
    which: Sequence[int],
    size: float,
    options: JoinOptions,
    progress: Progress,
    clock: Clock,
    checkpoint: Checkpoint,
    runner: Runner,
) -> tuple[list[WorkingFrame], list[Features]]:
    """Some frames at ``size`` megapixels and their points, taken up from an earlier run where it got so far."""
    working, features = checkpoint.load(f"looked-{size:g}") or (None, None)
    if working is None:
        with clock.stage("read"):
            progress.begin("read", len(which))
            working = _read(store, which, size, options, progress)
    if features is None:
        with clock.stage("features"):
            progress.begin("features", len(which))
            quick = size == options.working_mp
            task = FindFeatures(tuple(working), options.points_of(quick=quick), quick)
            features = []
            for found in runner.run(task, range(len(working))):
                features.append(found)
                progress.advance()
        checkpoint.save(f"looked-{size:g}", (working, features))
    return working, features


def _read(
    store: DecodedFrames, which: Sequence[int], size: float, options: JoinOptions, progress: Progress
) -> list[WorkingFrame]:
    """Frames at ``size`` megapixels; all of them are tried, so that every damaged one is named."""
    faults: list[UnreadableFrame] = []

    def one(f: int) -> WorkingFrame | None:
        try:
            return working_frame(f, store, size)
        except UnreadableFrame as error:
            faults.append(error)
            return None

    read = mapped(one, which, options.threads, progress)
    refuse_unreadable(sorted(faults, key=lambda fault: fault.where), len(which))
    return [frame for frame in read if frame is not None]


def _matched(
    frames: FrameSet,
    which: Sequence[int],
    features: Sequence[Features],
    prior: Sequence[Array | None],
    options: JoinOptions,
    progress: Progress,
) -> list[Link]:
    """Matches between some of the frames, by what they show and where they were pointed."""
    reach = 1.1 * max(
        2 * np.arctan(np.hypot(i.width, i.height) / 2 / (i.metadata.focal_px(i.width, i.height) or i.width))
        for i in frames.infos
    )
    pairs = candidate_pairs([features[f] for f in which], [prior[f] for f in which], float(reach))
    cut = {frozenset(pair) for pair in options.cut_links}
    pairs = [(a, b) for a, b in pairs if frozenset((frames.ids[which[a]], frames.ids[which[b]])) not in cut]
    progress.begin("match", len(pairs) + 1)

    def one(pair: tuple[int, int]) -> Link | None:
        return match_pair(which[pair[0]], which[pair[1]], features)

    return [link for link in mapped(one, pairs, options.threads, progress) if link is not None]


def _verified(
    frames: FrameSet, raw: Sequence[Link], rng: np.random.Generator, circle_px: float | None, known: KnownLens | None
) -> tuple[list[Link], list[Lens], tuple[int, ...]]:
    """Those links that one rotation explains, the lenses under which it does, and labels of frames that were zoomed or cropped."""
    lenses = guess_lenses(frames, raw, rng, circle_px, known)
    links = _explained(raw, lenses, rng)
    zoomed = None if known is not None or circle_px is not None else other_zooms(frames, raw, links, lenses)
    if zoomed is None:
        return links, lenses, ()
    again = _explained(raw, zoomed.lenses, rng)
    if len(groups_of(len(frames), again)[0]) <= len(groups_of(len(frames), links)[0]):
        return links, lenses, ()
    return again, zoomed.lenses, zoomed.labels


def _explained(raw: Sequence[Link], lenses: Sequence[Lens], rng: np.random.Generator) -> list[Link]:
    """Links that one rotation explains under these lenses."""
    links = []
    for link in raw:
        diagonal = float(np.hypot(lenses[link.a].width, lenses[link.a].height))
        verified = verify(link, lenses[link.a], lenses[link.b], LOOSE_SHARE * diagonal, rng)
        if verified is not None:
            links.append(verified)
    return links
