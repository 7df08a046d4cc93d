"""All that is advised on a finished picture, the worst first."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import structs

from idle_lantern.core.advice.advice import ORDER, Advice, FrameOutline, JoinedFacts, Lean, Medium
from idle_lantern.core.advice.detail import (
    edge_blur_px,
    lightness_of,
    noise_of,
    overshoot_of,
    places_to_look,
)
from idle_lantern.core.advice.frames_light import odd_frames
from idle_lantern.core.advice.horizon import lean_of
from idle_lantern.core.advice.sky import SkySeen, band_of, halo_ev, haze_of, sky_of
from idle_lantern.core.base.arrays import Array
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.colour.convert import eight_bit
from idle_lantern.core.colour.space import SRGB, light_matrix
from idle_lantern.core.compositing.canvas.canvas import Canvas
from idle_lantern.core.finish.evenness import SEEN_EV, SEEN_WARMTH, Drift, drift_of
from idle_lantern.core.finish.finishing import CUT, Finish, begun_on, finished
from idle_lantern.core.finish.healing import otherwise, rims_of
from idle_lantern.core.finish.masks import Polygon, Sky
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.step import Step, Whole
from idle_lantern.core.finish.steps.band import Band
from idle_lantern.core.finish.steps.exposure import ExposureStep
from idle_lantern.core.finish.steps.haze import Haze
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.finish.steps.noise import Noise
from idle_lantern.core.finish.steps.sharpen import Sharpen, sharpen_for_blur
from idle_lantern.core.finish.steps.sweep import Sweep
from idle_lantern.core.finish.steps.tones import Tones
from idle_lantern.core.finish.tile_look import Ground, luminance_of
from idle_lantern.core.pictures.source import PictureSource, reduced_in
from idle_lantern.core.plan.depth import EYE_RAD
from idle_lantern.core.scouting.skyline import sky_over

#: From these on something is said (common practice, no source): shares of the sky and of the picture, degrees, stops, lightness, shares of a step.
SKY_CUT, OUTSIDE, LEAN_DEG, HALO_EV, BAND_EV, VEIL, NOISE, OVERSHOOT = 0.03, 0.01, 0.3, 0.12, 0.3, 0.04, 0.008, 0.2
#: A lean is told where it is so many times its standard error.
_SURE = 2.0
#: How far a colour must lie beyond the ends of a profile, in linear light; what is nearly white is cut to white, which is told elsewhere.
_BEYOND, _NEARLY_WHITE = 0.004, 0.95
#: What leans is looked for on so many pixels of the longer side.
_LEAN_PX = 4096
#: A frame that is off by more is told; its outline as a mask falls off over so many degrees.
ODD_EV, _FRAME_FEATHER_DEG = 0.1, 1.0
#: A softer edge than this is worth sharpening.
_SOFT_PX = 0.55


def facts_of(source: PictureSource, canvas: Canvas, outlines: Sequence[FrameOutline] = ()) -> JoinedFacts:
    """What must be found once of a joined picture to look over what any recipe makes of it."""
    pixels = reduced_in(source, _LEAN_PX, SRGB)
    pixels = eight_bit(pixels)
    shown = pixels if pixels.shape[2] == 4 else np.dstack([pixels, np.full(pixels.shape[:2], 255, np.uint8)])
    return JoinedFacts(lean_of(shown, canvas), sky_over(shown, canvas), tuple(outlines))


def looked_over(
    source: PictureSource,
    recipe: Recipe,
    ground: Ground,
    canvas: Canvas,
    medium: Medium,
    facts: JoinedFacts,
    progress: Progress = SILENT,
) -> tuple[Advice, ...]:
    """What is to be said of a joined picture, of which ``facts`` are known, as a recipe finishes it; raises Cancelled, InputError."""
    begun = begun_on(source, recipe, ground)
    before, after = Finish((), source, ground).whole("linear"), Finish(recipe.working, begun, ground).whole("linear")
    progress.advance(0)
    said = [lean_advice(facts.lean), *_of_whole(before, after, recipe, ground, facts.skyline, medium)]
    progress.advance(0)
    said.append(_healed(source, recipe, ground))
    said.append(_odd_frame(after, recipe, ground, canvas, facts.outlines))
    made = finished(source, recipe, ground)
    # a full circle has no ends that could differ
    said += [] if canvas.full_circle else drift_advice(drift_of(made), recipe)
    said += _of_detail(source, made, recipe, ground, medium, progress)
    return tuple(sorted((a for a in said if a is not None), key=lambda a: ORDER.index(a.what)))


def _of_whole(
    before: Whole,
    after: Whole,
    recipe: Recipe,
    ground: Ground,
    skyline: Sequence[tuple[float, float]],
    medium: Medium,
) -> list[Advice | None]:
    shown = ground.changed(after.values, "linear", "display")
    sky = sky_of(after.alpha, skyline, ground)
    said = [_outside(after, ground, medium)]
    if sky is None:
        return said
    joined = ground.changed(before.values, "linear", "display")
    light, plain = (luminance_of(w.values, ground.space) for w in (after, before))
    return [
        *said,
        _sky_cut(joined, shown, sky, recipe),
        _halo(halo_ev(plain, light, sky.mask)),
        _band(light, sky, recipe),
        _haze(light, after.alpha, sky, recipe),
    ]


def _has(recipe: Recipe, kind: type[Step]) -> bool:
    """Whether a step of a kind is there and on: what was evened already is not proposed again."""
    return any(isinstance(step, kind) and step.on for step in recipe.steps)


def _sky_cut(joined: Array, shown: Array, sky: SkySeen, recipe: Recipe) -> Advice | None:
    share, share_before = (float((v[sky.mask].max(-1) >= 1 - CUT).mean()) for v in (shown, joined))
    if share <= SKY_CUT:
        return None
    told = f"{100 * share:.0f} % of the sky is burnt out to white"
    if share_before > 0.8 * share:
        return Advice(
            "sky",
            share,
            "share",
            f"{told}, in the frames already.",
            "No step brings it back: a shorter exposure does, or a bracket.",
        )
    present = next((s for s in recipe.steps if isinstance(s, Tones) and s.on and s.mask is None), Tones())
    step = Tones(shadows=present.shadows, highlights=max(-1.0, round(present.highlights - 0.4, 2)))
    if step.highlights == present.highlights:
        return Advice("sky", share, "share", f"{told} by the steps.", "Take some exposure or contrast back.")
    return Advice(
        "sky", share, "share", f"{told} by the steps.", "Hold its highlights back.", "Hold the highlights back", step
    )


def lean_advice(lean: Lean | None) -> Advice | None:
    """What is said of a picture that leans; None where that is not sure or not much."""
    if lean is None or lean.degrees < max(LEAN_DEG, _SURE * lean.sigma_deg):
        return None
    told = f"The picture leans by {lean.degrees:.1f}° (±\u00a0{lean.sigma_deg:.1f}°)."
    return Advice("horizon", lean.degrees, "degrees", told, "Level it; Compose shows how it will look.", "Level it")


def _outside(after: Whole, ground: Ground, medium: Medium) -> Advice | None:
    seen = after.alpha > 0.5
    if not seen.any():
        return None
    light = after.values[seen] @ light_matrix(ground.space, medium.space).T.astype(np.float32)
    white = light @ medium.space.luminance.astype(np.float32) > _NEARLY_WHITE
    beyond = ((light.min(-1) < -_BEYOND) | (light.max(-1) > 1 + _BEYOND)) & ~white
    share = float(beyond.mean())
    if share < OUTSIDE:
        return None
    return Advice(
        "colours",
        share,
        "share",
        f"{100 * share:.0f} % of the picture has colours that {medium.space.name} cannot hold; they are cut.",
        "Deliver in a wider profile, or take some saturation back.",
    )


def _healed(source: PictureSource, recipe: Recipe, ground: Ground) -> Advice | None:
    step = next((s for s in recipe.working if isinstance(s, Heal)), None)
    spots = () if step is None else step.spots
    other = len(otherwise(source, ground, spots))
    if step is None or not other:
        return None
    looked_at = [structs.replace(spot, seen=rims_of(source, ground, spot)) for spot in spots]
    told = f"{other} of {len(spots)} healed places" if len(spots) > 1 else "The healed place"
    return Advice(
        "healed",
        other,
        "places",
        f"{told} look{'' if len(spots) > 1 else 's'} otherwise than when healed: the picture was joined anew.",
        "Look at them with N; W takes other ground, Backspace leaves a place as joined.",
        "They look right",
        structs.replace(step, spots=tuple(looked_at)),
    )


def _odd_frame(
    after: Whole, recipe: Recipe, ground: Ground, canvas: Canvas, outlines: Sequence[FrameOutline]
) -> Advice | None:
    if not outlines:
        return None
    light = luminance_of(after.values, ground.space)
    odd = odd_frames(light, after.alpha, canvas, [frame.lines for frame in outlines])
    evened = [s.mask.places_deg for s in recipe.steps if s.on and isinstance(s.mask, Polygon)]
    for one in odd:
        if abs(one.ev) < max(ODD_EV, _SURE * one.sigma_ev) or one.corners_deg in evened:
            continue
        name = outlines[one.number].name
        step = ExposureStep(
            ev=round(-one.ev, 2), mask=Polygon(places_deg=one.corners_deg, feather_deg=_FRAME_FEATHER_DEG)
        )
        told = f"{name} is {abs(one.ev):.2f} EV {'brighter' if one.ev > 0 else 'darker'} than what lies about it."
        return Advice("frame", one.ev, "EV", told, "Even it out there.", "Even the frame out", step)
    return None


def _halo(ev: float) -> Advice | None:
    if ev < HALO_EV:
        return None
    return Advice(
        "halo",
        ev,
        "EV",
        f"A rim {ev:.2f} EV brighter than the sky above it runs along the land.",
        "Weaken local contrast, or highlights and shadows; or keep them off the sky by a mask.",
    )


def drift_advice(drift: Drift, recipe: Recipe) -> list[Advice]:
    """What is said of light or colour that drifts across; nothing where it was evened already."""
    if not drift.is_seen or _has(recipe, Sweep):
        return []
    parts, ev, warmth = [], 0.0, 0.0
    if abs(drift.ev) >= SEEN_EV:
        parts.append(f"{abs(drift.ev):.1f} EV {'brighter' if drift.ev > 0 else 'darker'}")
        ev = min(max(-round(drift.ev, 2), -4.0), 4.0)
    if abs(drift.warmth) >= SEEN_WARMTH:
        parts.append(f"{'warmer' if drift.warmth > 0 else 'cooler'} by {abs(drift.warmth):.2f} EV of red against blue")
        warmth = min(max(-round(drift.warmth, 2), -2.0), 2.0)
    told = f"Above, the right end is {' and '.join(parts)} than the left."
    remedy = "The sun may do that; if it should not show, even it out."
    return [Advice("drift", drift.ev, "EV", told, remedy, "Even it out", Sweep(ev=ev, warmth=warmth))]


def _band(light: Array, sky: SkySeen, recipe: Recipe) -> Advice | None:
    found = None if _has(recipe, Band) else band_of(light, sky)
    if found is None or -found.height < BAND_EV:
        return None
    step = Band(
        yaw_deg=round(found.yaw_deg, 1),
        width_deg=found.width_deg,
        ev=round(-found.height, 2),
        mask=Sky(skyline=_thinned(sky.skyline), feather_deg=2.0),
    )
    told = (
        f"A band of the sky about {_azimuth(found.yaw_deg)} is {-found.height:.1f} EV darker, as a polariser makes it."
    )
    return Advice("band", -found.height, "EV", told, "Even it out.", "Even the band out", step)


def _haze(light: Array, alpha: Array, sky: SkySeen, recipe: Recipe) -> Advice | None:
    found = None if _has(recipe, Haze) else haze_of(light, sky, alpha)
    if found is None or found.height < VEIL:
        return None
    # two thirds of it: a far place without any haze looks near
    step = Haze(yaw_deg=round(found.yaw_deg, 1), width_deg=found.width_deg, veil=round(found.height * 2 / 3, 3))
    told = (
        f"Towards {_azimuth(found.yaw_deg)} even the darkest places are veiled by {100 * found.height:.0f} % of white."
    )
    return Advice("haze", found.height, "of white", told, "Take two thirds of the veil off.", "Take haze off", step)


def _thinned(skyline: Sequence[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    """A border by every second degree at most: enough for a feather of two."""
    step = max(1, round(len(skyline) / 180))
    return tuple(skyline[::step]) if len(skyline) > 2 * step else tuple(skyline)


def _azimuth(yaw_deg: float) -> str:
    return f"{yaw_deg:+.0f}°".replace("-", "−")


def _of_detail(
    source: PictureSource, made: PictureSource, recipe: Recipe, ground: Ground, medium: Medium, progress: Progress
) -> list[Advice | None]:
    edges, even = places_to_look(source)
    said: list[Advice | None] = []

    def lightness(picture: PictureSource, places: Sequence[tuple[int, int]]) -> list[Array]:
        tiles = []
        for place in places:
            tiles.append(lightness_of(picture.tile(0, *place), ground.space))
            progress.advance(0)
        return tiles

    sharpened = next((s for s in recipe.working if isinstance(s, Sharpen)), None)
    if sharpened is not None:
        plain = finished(source, Recipe(tuple(s for s in recipe.steps if not isinstance(s, Sharpen))), ground)
        over = overshoot_of(lightness(plain, edges), lightness(made, edges))
        if over > OVERSHOOT:
            weaker = round(sharpened.amount * OVERSHOOT / over * 0.8, 2)
            said.append(
                Advice(
                    "oversharp",
                    over,
                    "of the edge",
                    f"Edges are sharpened by {100 * over:.0f} % beyond their own step: light rims show.",
                    f"Sharpen by {weaker:g} instead of {sharpened.amount:g}.",
                    "Sharpen less",
                    Sharpen(
                        radius_px=sharpened.radius_px, amount=weaker, threshold=sharpened.threshold, mask=sharpened.mask
                    ),
                )
            )
    elif not _has(recipe, Sharpen):
        blur = edge_blur_px(lightness(source, edges))
        if blur is not None and blur > _SOFT_PX:
            step = sharpen_for_blur(blur)
            told = f"At 100 % sharp edges are soft by {blur:.1f} px, as every join leaves them."
            remedy = f"Sharpen by that: radius {step.radius_px:g} px, {step.amount:g}."
            said.append(Advice("soft", blur, "px", told, remedy, "Sharpen by that", step))
    said.append(_noise(noise_of(lightness(made, even)), recipe, medium))
    return said


def _noise(noise: float, recipe: Recipe, medium: Medium) -> Advice | None:
    """Noise as it is seen on the print: where the eye does not part its pixels, it sees their mean."""
    together = max(1.0, 1000 * medium.viewing_m * EYE_RAD / (25.4 / medium.dpi))
    seen = noise / together
    if seen < NOISE or _has(recipe, Noise):
        return None
    step = Noise(light=round(min(1.0, noise / 0.05), 2), colour=0.5)
    told = f"A print at {medium.dpi:.0f} dpi, seen from {medium.viewing_m:g} m, shows noise of {100 * seen:.1f} % of the range."
    return Advice("noise", seen, "of the range", told, "Even it, or print smaller.", "Even the noise", step)
