"""Links and rough poses -> exact ones: tie points re-localised at full size, lens and rotations adjusted to them."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.cache import SizedCache
from idle_lantern.core.base.parallel import mapped
from idle_lantern.core.base.progress import Progress
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet
from idle_lantern.core.geometry.lenses import FISHEYES, MODELS, Lens
from idle_lantern.core.registration.match.by_hand import SIGMA_PX
from idle_lantern.core.registration.match.lens_guess import camera_groups, known_lenses
from idle_lantern.core.registration.match.links import Link, best_tied
from idle_lantern.core.registration.solve.adjust import adjust, best_lens, descend
from idle_lantern.core.registration.solve.adjustment import BENT, FOCAL, Adjustment, intrinsics_of
from idle_lantern.core.registration.solve.hand_held import HandHeld, solve_hand_held
from idle_lantern.core.registration.solve.inverse_depth import InverseDepths
from idle_lantern.core.registration.solve.parallax import Parallax, solve_parallax
from idle_lantern.core.registration.solve.poses import Poses, reassigned
from idle_lantern.core.registration.solve.tie_points import register_tie_points, smoothed
from idle_lantern.core.request.options import JoinOptions

_SCALE_PX = 0.15
#: Pixels of the working frames that a feature's place may miss by, and that near things may.
_FEATURE_MISS, _NEAR_THINGS = 1.2, 8.0
#: A link that the adjustment moves by more than this at its farther points is registered once more:
#: patches begin the search within three pixels.
_MOVED_PX = 2.0
#: Points of a link, and gain at which a step is the last, for the adjustment that shows which those are.
_ROUGH_POINTS, _ROUGHLY = 60, 1e-3
#: The same for what the last adjustment begins from.
_NEARLY = 1e-5
#: Points of a link by which the fisheye mappings are told apart.
_MAPPING_POINTS = 80
#: A rectilinear lens whose corner moves by less than this share is one; and none sees farther from its axis.
_PLAIN, _RECTILINEAR_UP_TO_RAD = 0.06, math.radians(75.0)
#: Parallax is looked into when more than this share of the tie points misses by so much.
_PARALLAX_POINTS, _PARALLAX_MISS_PX = 0.15, 0.45
_PARALLAX_SCALE_PX = 0.25
#: A pupil that swung about an axis explains frames to so much; if not, a camera that was carried must do so better by this.
_SWUNG_PX, _CARRIED = 0.25, 0.6
#: Fine registration that leaves more than this, and more than there was, is given up. Soft shapes may leave nearly so much.
_NO_BETTER_PX = 1.0
#: Full-size greys held meanwhile.
_GREY_BYTES = 400_000_000
#: Patches from which points set by hand are made finer.
_SURE_OF_IT = 12


def working_px(frames: FrameSet, poses: Poses, working_mp: float) -> float:
    """Full-size pixels to a pixel of the working frames."""
    return max(1.0, float(np.mean([np.sqrt(frames.infos[f].megapixels / working_mp) for f in poses.frames])))


def greys_within(store: DecodedFrames, options: JoinOptions) -> SizedCache[int, Array]:
    """Lightly smoothed brightness (H, W), 8 bit, of full-size frames, held within the memory allowed."""
    most = min(_GREY_BYTES, options.memory() // 3)
    return SizedCache(lambda f: smoothed(store.grey(f)), lambda g: int(g.nbytes), most)


def refine_solution(
    frames: FrameSet,
    store: DecodedFrames,
    corners: Sequence[Array],
    poses: Poses,
    links: list[Link],
    options: JoinOptions,
    rng: np.random.Generator,
    progress: Progress,
    working_mp: float,
) -> tuple[Poses, list[Link], Parallax | HandHeld | None]:
    """Poses, links and parallax after fine registration; as they were, where it makes nothing better.

    ``corners`` are places with detail in each frame (N, 2), ``working_mp`` the size at which the
    links were found.
    """
    group = camera_groups(frames)
    told = all(i.metadata.focal_px(i.width, i.height) for i in frames.infos)
    before, chosen = links, best_tied(links, dict(zip(poses.frames, poses.world_from_camera)))
    greys = greys_within(store, options)
    registrar = _Registrar(greys, corners, working_px(frames, poses, working_mp), rng, options.threads, progress)
    links = registrar.registered(chosen, poses)
    if not any(link.inliers for link in links):  # nothing that patches confirm: haze, or frames of a few pixels
        return poses, before, None
    known = known_lenses(frames, options.lens) is not None
    if not known:
        poses = _best_mapping(poses, links, group, told)
    roughly = adjust(
        poses, links, group, scale_px=_SCALE_PX * 4, focal_from_exif=told, free=FOCAL if known else BENT,
        most_points=_ROUGH_POINTS, settled=_ROUGHLY,
    )  # fmt: skip
    again = [i for i, link in enumerate(chosen) if _moved_px(link, poses, roughly) > _MOVED_PX]
    if again:
        for i, link in zip(again, registrar.registered([chosen[i] for i in again], roughly)):
            links[i] = link
        if not any(link.inliers for link in links):
            return poses, before, None
    refined = _adjusted(roughly, links, group, told, known)
    known = known and intrinsics_of(refined.lenses[0])[1:] == intrinsics_of(poses.lenses[0])[1:]
    if refined.rms_px > max(poses.rms_px, _NO_BETTER_PX):
        return poses, before, None
    refined, parallax = _freed_of_parallax(refined, links, group, told, known, store.grey, progress)
    within = max(0.6, 4 * refined.rms_px)
    final = [reassigned(k, refined, within) if k.inliers else k for k in links]
    return refined, final, parallax


def registered_links(
    frames: FrameSet,
    store: DecodedFrames,
    corners: Sequence[Array],
    poses: Poses,
    links: Sequence[Link],
    working_mp: float,
    options: JoinOptions,
    rng: np.random.Generator,
    progress: Progress,
) -> list[Link]:
    """The links with their tie points where the patches about them lie at full size, under these poses.

    ``corners`` are places with detail in each frame, (N, 2).
    """
    greys = greys_within(store, options)
    pixel = working_px(frames, poses, working_mp)
    return _Registrar(greys, corners, pixel, rng, options.threads, progress).registered(links, poses)


@dataclass(frozen=True)
class _Registrar:
    """Moves the tie points of links to where the patches about them lie, by a few threads."""

    greys: SizedCache[int, Array]
    corners: Sequence[Array]
    pixel: float
    rng: np.random.Generator
    threads: int
    progress: Progress

    def registered(self, links: Sequence[Link], poses: Poses) -> list[Link]:
        """The links registered under these poses."""

        def one(item: tuple[Link, int]) -> Link:
            # near things miss by more than features do: what the patches then confirm is kept
            link = reassigned(item[0], poses, _NEAR_THINGS * self.pixel)
            a, b = self.greys.load(link.a), self.greys.load(link.b)
            own = np.random.default_rng(item[1])
            if link.by_hand:
                return _with_patches(link, register_tie_points(link, a, b, poses, own, more_a=self.corners[link.a]))
            return register_tie_points(link, a, b, poses, own, _FEATURE_MISS * self.pixel, self.corners[link.a])

        self.progress.begin("refine", len(links))
        seeds = self.rng.integers(0, 2**31, len(links)).tolist()
        return mapped(one, list(zip(links, seeds)), self.threads, self.progress)


def _with_patches(by_hand: Link, registered: Link) -> Link:
    """Points set by hand, and beside them the patches that agree where these put them, as long as there are enough to tell."""
    seen = len(by_hand.points_a) - by_hand.assumed  # what patches tell nobody need assume
    found = registered.inlier & (registered.sigma_px < SIGMA_PX)
    found[: len(by_hand.points_a)] = False
    if found.sum() < _SURE_OF_IT:
        return by_hand
    points_a, points_b, known = (
        np.concatenate([own[:seen], more[found]])
        for own, more in (
            (by_hand.points_a, registered.points_a),
            (by_hand.points_b, registered.points_b),
            (by_hand.sqrt_information, registered.sqrt_information),
        )
    )
    return replace(
        by_hand,
        points_a=points_a,
        points_b=points_b,
        inlier=np.ones(len(points_a), bool),
        sqrt_information=known,
        assumed=0,
    )


def _freed_of_parallax(
    poses: Poses,
    links: list[Link],
    group: list[int],
    told: bool,
    known: bool,
    grey: Callable[[int], Array],
    progress: Progress,
) -> tuple[Poses, Parallax | HandHeld | None]:
    """Where tie points miss by parallax: poses freed of it, with local warps for what it does to near things."""
    if not _shows_parallax(links, poses):
        return poses, None
    # their sparse solver takes half a second to load and few sets need it
    from idle_lantern.core.registration.solve.inverse_depth_map import near_map
    from idle_lantern.core.registration.solve.inverse_depth_warp import seen_from_the_middle
    from idle_lantern.core.registration.solve.local_warp import bent

    found: tuple[Poses, Parallax | HandHeld, InverseDepths] | None
    found = solve_parallax(poses, links, group, scale_px=_PARALLAX_SCALE_PX, focal_from_exif=told, known=known)
    left = found[0].rms_px if found is not None else math.inf
    if left > _SWUNG_PX:
        carried_about = solve_hand_held(poses, links, group, focal_from_exif=told, known=known, progress=progress)
        if carried_about is not None and carried_about[0].rms_px < _CARRIED * left:
            found = carried_about
    if found is None:
        return bent(poses, links), None
    freed, parallax, things = found
    at = {f: i for i, f in enumerate(freed.frames)}
    pairs = [(at[k.a], at[k.b]) for k in links if k.inliers and k.a in at and k.b in at]
    near = near_map(freed, things.place, things.near, pairs, grey, progress)
    return seen_from_the_middle(freed, things.place, near), parallax


def _adjusted(poses: Poses, links: list[Link], group: list[int], told: bool, known: bool) -> Poses:
    """Poses adjusted to registered links, with the intrinsics of the lens that these ask for."""
    free = FOCAL if known else BENT
    poses = adjust(poses, links, group, scale_px=_SCALE_PX * 4, focal_from_exif=told, free=free, settled=_ROUGHLY)
    scale = max(_SCALE_PX, 1.5 * poses.rms_px)
    poses = adjust(poses, links, group, scale_px=scale, focal_from_exif=told, free=free, settled=_NEARLY)
    scale = max(_SCALE_PX, 1.5 * poses.rms_px)
    return best_lens(poses, links, group, scale_px=scale, focal_from_exif=told, known=known)


def _moved_px(link: Link, old: Poses, new: Poses) -> float:
    """By how much other poses move the farther points of a link in frame b."""
    points = link.points_a
    one, there = old.transfer(old.index(link.a), old.index(link.b), points)
    other, here = new.transfer(new.index(link.a), new.index(link.b), points)
    moved = np.linalg.norm(one - other, axis=1)[there & here]
    return float(np.quantile(moved, 0.9)) if len(moved) else 0.0


def _best_mapping(poses: Poses, links: list[Link], group: list[int], told: bool) -> Poses:
    """Of all mappings the one that needs least bending to meet the tie points; plain lenses are taken as they are."""
    lens = poses.lenses[0]
    if lens.model == "rectilinear" and abs(_bent_share(lens)) < _PLAIN:
        return poses
    tried = []
    for model in MODELS if _farthest_rad(lens) < _RECTILINEAR_UP_TO_RAD else FISHEYES:
        start = replace(poses, lenses=tuple(told_as(model, lens) for lens in poses.lenses))
        problem = Adjustment(start, links, group, _SCALE_PX * 4, told, BENT, _MAPPING_POINTS)
        tried.append((descend(problem, 20), problem.result()))
    return min(tried, key=lambda t: t[0])[1]


def told_as(model: str, lens: Lens) -> Lens:
    """Another model with the two intrinsics that make it most like ``lens``, by least squares along the radius."""
    plain = replace(lens, model=model, k1=0.0, k2=0.0, k3=0.0)
    theta = np.linspace(0.05, 1, 60) * min(_farthest_rad(lens), plain.limit_rad)
    bent = plain.angle_rad(lens.radius_px(theta))
    seen = np.isfinite(bent)
    s, bent = (np.tan(v[seen]) if model == "rectilinear" else v[seen] for v in (theta, bent))
    k1, k2 = np.linalg.lstsq(np.stack([s**3, s**5], -1), bent - s, rcond=None)[0].tolist()
    return replace(plain, k1=k1, k2=k2)


def _farthest_rad(lens: Lens) -> float:
    """Angle from the axis at the frame's corner, or as far as the lens sees at all."""
    corner = float(lens.angle_rad(math.hypot(lens.width, lens.height) / 2))
    return corner if math.isfinite(corner) else lens.limit_rad


def _bent_share(lens: Lens) -> float:
    """By what share of the radius distortion moves the frame's corner."""
    corner = math.hypot(lens.width, lens.height) / 2
    straight = float(replace(lens, k1=0.0, k2=0.0, k3=0.0).angle_rad(corner))
    bent = float(lens.angle_rad(corner))
    return 1.0 if not (math.isfinite(straight) and math.isfinite(bent)) else math.tan(straight) / math.tan(bent) - 1


def _shows_parallax(links: Sequence[Link], poses: Poses) -> bool:
    """Whether more tie points than chance would give miss by more than fine registration does."""
    missed = total = 0
    for link in links:
        anew = reassigned(link, poses, _PARALLAX_MISS_PX)
        known = link.inlier & (link.sigma_px < _PARALLAX_MISS_PX / 3)
        missed += int((known & ~anew.inlier).sum())
        total += int(known.sum())
    return missed > _PARALLAX_POINTS * total
