"""Every change of an outing: ``Outing -> Outing`` under a title that undo can name."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from typing import Any

from idle_lantern.core.deliver.job import STEPS, CoverNadir, TellInvented
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.step import Step as FinishStep
from idle_lantern.core.optics.known import KnownLens
from idle_lantern.core.outing.model import CaptureGroup, CropBox, FrameRef, LoggedShot, Origin, Outing, Verdict
from idle_lantern.core.plan.brief import Brief
from idle_lantern.core.plan.grid_frame import GridFrame
from idle_lantern.core.plan.rig import MOST_PIXEL_ASPECT, Rig
from idle_lantern.core.request.choices import JoinChoices, MaskRef, TiePoint


@dataclass(frozen=True)
class Edit:
    """A titled change; edits of the same ``merge`` key in a row (a drag) count as one."""

    title: str
    apply: Callable[[Outing], Outing]
    merge: str = ""


def set_part(part: str, title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change values of one part of the brief (``target_field``, ``rig``, ``support`` ...)."""

    def apply(outing: Outing) -> Outing:
        present = getattr(outing.brief, part)
        changed = replace(present, **(_of_one_camera(present, changes) if part == "rig" else changes))
        return _planned_anew(outing, replace(outing.brief, **{part: changed}))

    return Edit(title, apply, merge)


def set_target_field(title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change the wished field or overlap."""
    return set_part("target_field", title, merge=merge, **changes)


def set_rig(title: str, **changes: Any) -> Edit:
    """Change camera, lens or orientation."""
    return set_part("rig", title, **changes)


#: What a camera and a lens are known by: typed anew, they are no longer the thing whose name stands there.
_CAMERA = ("sensor_width_mm", "sensor_height_mm", "width_px", "height_px")
_LENS = ("lens_model", "widest_aperture", "narrowest_aperture", "image_circle_mm", "shift_mm")
_FOCAL = re.compile(r"(\d+(?:\.\d+)?)(?:\s*-\s*(\d+(?:\.\d+)?))?\s*mm")


def _of_one_camera(rig: Rig, changes: Mapping[str, Any]) -> dict[str, Any]:
    """Changes of a rig with what follows: sides that fit, and no name of a thing that it no longer is."""
    changes = fitting_sides(rig, changes)

    def other(keys: Sequence[str]) -> bool:
        return any(key in changes and changes[key] != getattr(rig, key) for key in keys)

    if "camera" not in changes and other(_CAMERA):
        changes["camera"] = ""
    focal = changes.get("focal_mm", rig.focal_mm)
    if "lens_name" not in changes and (other(_LENS) or (focal != rig.focal_mm and not _zooms_to(rig.lens_name, focal))):
        changes["lens_name"] = ""
    return changes


def _zooms_to(lens_name: str, focal_mm: float) -> bool:
    """Whether a lens called so ("24-70 mm f/2.8") has that focal length; a name without one may have any."""
    found = _FOCAL.search(lens_name)
    if found is None:
        return True
    shortest = float(found[1])
    return shortest - 0.5 <= focal_mm <= float(found[2] or shortest) + 0.5


#: Of the four sides of a sensor the one that follows when another is changed to what cannot be.
_FOLLOWS = {
    "sensor_width_mm": "sensor_height_mm",
    "sensor_height_mm": "height_px",
    "width_px": "height_px",
    "height_px": "sensor_height_mm",
}


def fitting_sides(rig: Rig, changes: Mapping[str, Any]) -> dict[str, Any]:
    """Changes of a rig with the side that must follow, so that a camera can be typed in one number after the other.

    Sensor and pixels have the same ratio of sides: where one changed side would part them, its partner follows.
    """
    changes = dict(changes)
    changed = [key for key in _FOLLOWS if key in changes]
    if len(changed) != 1:
        return changes
    sides = {key: float(changes.get(key, getattr(rig, key))) for key in _FOLLOWS}
    if not all(v > 0 and math.isfinite(v) for v in sides.values()):
        return changes  # refused by its limits, with its name
    pixel_mm = sides["sensor_width_mm"] / sides["width_px"]
    aspect = sides["sensor_height_mm"] / sides["height_px"] / pixel_mm
    if not 1 / MOST_PIXEL_ASPECT <= aspect <= MOST_PIXEL_ASPECT:
        follows = _FOLLOWS[changed[0]]
        if follows == "height_px":
            changes[follows] = round(sides["sensor_height_mm"] / pixel_mm)
        else:
            changes[follows] = round(sides["height_px"] * pixel_mm, 3)
    return changes


def set_brief(title: str, brief: Brief) -> Edit:
    """Take over a whole brief: a kind of picture, a thing of the gear library, a remedy, a plan from a file."""
    return Edit(title, lambda o: _planned_anew(o, brief))


def change_brief(title: str, change: Callable[[Brief], Brief]) -> Edit:
    """Change the brief as it is when the edit is made; what cannot be is refused then, like any other edit."""
    return Edit(title, lambda o: _planned_anew(o, change(o.brief)))


def give_frames(title: str, frames: Sequence[GridFrame]) -> Edit:
    """Let frames of a list made elsewhere stand instead of planned ones."""
    return Edit(title, lambda o: replace(o, given_frames=tuple(frames), skipped=()))


def _planned_anew(outing: Outing, brief: Brief) -> Outing:
    """Positions that were skipped start anew where frames may move; a given list goes when the field changes."""
    moved = (brief.rig, brief.target_field, brief.support, brief.run.order) != (
        outing.brief.rig,
        outing.brief.target_field,
        outing.brief.support,
        outing.brief.run.order,
    )
    given = (
        () if brief.target_field != outing.brief.target_field or brief.rig != outing.brief.rig else outing.given_frames
    )
    return replace(outing, brief=brief, given_frames=given, skipped=() if moved else outing.skipped)


def add_shot(refs: Sequence[FrameRef], group: CaptureGroup | None = None) -> Edit:
    """Log what was just shot at one position; ``group`` holds the exposures of a bracket together."""
    number = refs[0].number

    def apply(outing: Outing) -> Outing:
        return replace(
            outing,
            frames=(*outing.frames, *refs),
            groups=outing.groups if group is None else (*outing.groups, group),
            skipped=tuple(n for n in outing.skipped if n != number),
        )

    return Edit(f"Shoot frame {number}", apply)


def log_shot(frame: GridFrame, taken: str) -> Edit:
    """Log that a planned frame was taken with a camera of one's own; once more means that it was taken again."""

    def apply(outing: Outing) -> Outing:
        shot = LoggedShot(frame.number, frame.yaw_deg, frame.pitch_deg, taken)
        skipped = tuple(n for n in outing.skipped if n != frame.number)
        return replace(outing, logged=(*outing.logged, shot), skipped=skipped)

    return Edit(f"Log frame {frame.number}", apply)


def unlog_shot(number: int) -> Edit:
    """Take back what was logged of a planned frame last; of one that was taken again the time before still counts."""

    def apply(outing: Outing) -> Outing:
        last = max((at for at, shot in enumerate(outing.logged) if shot.number == number), default=None)
        return replace(outing, logged=tuple(shot for at, shot in enumerate(outing.logged) if at != last))

    return Edit(f"Frame {number} was missed", apply)


def make_plan_for_photographs() -> Edit:
    """Let an outing from photographs have a plan from now on."""
    return Edit("Make a plan", lambda o: replace(o, plan_made=True))


def add_frame(ref: FrameRef) -> Edit:
    """Log a single frame."""
    return add_shot([ref])


def remove_frames(ids: Sequence[str]) -> Edit:
    """Take frames out of the outing, with what was chosen for and painted on them; the files stay on disk."""
    gone = set(ids)

    def apply(outing: Outing) -> Outing:
        groups = tuple(_group_without(g, gone) for g in outing.groups if set(g.frames) - gone)
        return replace(
            outing,
            frames=tuple(r for r in outing.frames if r.id not in gone),
            choices=outing.choices.without(gone),
            groups=groups,
        )

    return Edit(f"Remove {len(gone)} frame{'s' if len(gone) != 1 else ''} from the outing", apply)


def _group_without(group: CaptureGroup, gone: Set[str]) -> CaptureGroup:
    ev = tuple(e for f, e in zip(group.frames, group.ev) if f not in gone) if group.chosen not in gone else ()
    return replace(
        group,
        frames=tuple(f for f in group.frames if f not in gone),
        chosen=None if group.chosen in gone else group.chosen,
        ev=ev,
    )


def know_contents(hashes: Mapping[str, str]) -> Edit:
    """Note the SHA-256 of frames' files, by frame id."""

    def apply(outing: Outing) -> Outing:
        frames = tuple(replace(r, sha256=hashes.get(r.id, r.sha256)) for r in outing.frames)
        return replace(outing, frames=frames)

    return Edit("Read the frames", apply)


def paint(frame: str, name: str, asset: str | None) -> Edit:
    """Let a mask asset stand for what is painted on a frame; None for nothing."""
    return paint_several(f"Paint on {name}" if asset else f"Clear the paint on {name}", {frame: asset})


def paint_several(title: str, painted: Mapping[str, str | None]) -> Edit:
    """Let mask assets stand for what is painted on some frames; None for nothing."""

    def masks(choices: JoinChoices) -> dict[str, Any]:
        others = (m for m in choices.masks if m.frame not in painted)
        new = (MaskRef(frame, asset) for frame, asset in painted.items() if asset is not None)
        return {"masks": (*others, *new)}

    return _choosing(title, masks)


def tie(point: TiePoint) -> Edit:
    """Set a tie point by hand."""
    return _choosing("Tie two frames by hand", lambda c: {"points": (*c.points, point)})


def untie(points: Sequence[TiePoint]) -> Edit:
    """Take points that were set by hand away."""
    title = "Take a tie away" if len(points) == 1 else "Take ties away"
    return _choosing(title, lambda c: {"points": tuple(p for p in c.points if p not in points)})


def cut_link(one: str, other: str, cut: bool) -> Edit:
    """Let two frames not be matched with each other, or again."""

    def links(choices: JoinChoices) -> dict[str, Any]:
        rest = tuple(pair for pair in choices.cut_links if set(pair) != {one, other})
        return {"cut_links": (*rest, (one, other)) if cut else rest}

    return _choosing("Cut a link" if cut else "Mend a link", links)


def judge_place(verdict: Verdict, before: Verdict | None = None) -> Edit:
    """Say of a suspicious place whether it is good; ``before`` is what was said of it so far."""
    words = {"good": "Call a place good", "mend": "Mark a place to be mended", "later": "Leave a place for later"}
    return Edit(
        words[verdict.verdict],
        lambda o: replace(o, verdicts=(*(v for v in o.verdicts if v not in (before, verdict)), verdict)),
    )


def skip_frame(number: int, skip: bool) -> Edit:
    """Decide not to shoot a planned frame, or to shoot it after all."""

    def apply(outing: Outing) -> Outing:
        rest = tuple(n for n in outing.skipped if n != number)
        return replace(outing, skipped=(*rest, number) if skip else rest)

    return Edit(f"{'Skip' if skip else 'Take back'} frame {number}", apply)


def leave_out(ref: FrameRef, out: bool) -> Edit:
    """Keep a frame out of the join, or put it back."""
    return _chosen(f"{'Leave out' if out else 'Put back'} {_name(ref)}", "left_out", ref.id, out)


def put_back(ref: FrameRef, back: bool) -> Edit:
    """Use a frame that the join left out all the same, or leave that to the join again."""
    return _chosen(f"{'Use' if back else 'Leave to the join'} {_name(ref)}", "put_back", ref.id, back)


def switch_off(ref: FrameRef, off: bool) -> Edit:
    """Let a frame show nowhere in the picture, though it ties the others, or let it show again."""
    return _chosen(f"Switch {_name(ref)} {'off' if off else 'on'}", "off", ref.id, off)


def _chosen(title: str, part: str, frame: str, chosen: bool) -> Edit:
    def frames(choices: JoinChoices) -> dict[str, Any]:
        rest = tuple(f for f in getattr(choices, part) if f != frame)
        return {part: (*rest, frame) if chosen else rest}

    return _choosing(title, frames)


def _choosing(title: str, change: Callable[[JoinChoices], dict[str, Any]], merge: str = "") -> Edit:
    """Change choices of the join by what they are when the edit is made."""
    return Edit(title, lambda o: replace(o, choices=replace(o.choices, **change(o.choices))), merge)


def _name(ref: FrameRef) -> str:
    return ref.file.rsplit("/", 1)[-1]


def choose(title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change what the join is told."""
    return _choosing(title, lambda _c: changes, merge)


def compose(title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change what of the picture is shown and delivered."""
    return Edit(title, lambda o: replace(o, composition=replace(o.composition, **changes)), merge)


def crop_to(box: CropBox | None, *, merge: str = "") -> Edit:
    """Crop to a box set by hand; None goes back to the largest rectangle without gaps."""
    title = "Crop by hand" if box is not None else "Crop to the largest rectangle"
    return compose(title, merge=merge, box=box, crop=True)


def deliver_as(title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change how the picture is delivered."""
    return Edit(title, lambda o: replace(o, delivery=replace(o.delivery, **changes)), merge)


def cover_nadir(title: str, cover: CoverNadir | None, *, merge: str = "") -> Edit:
    """Cover what stands under the tripod as the picture is delivered, or leave it as joined."""
    return _operating(title, CoverNadir, cover, merge)


def tell_invented(tell: bool) -> Edit:
    """Tell below the delivered picture what of it is invented, or not."""
    title = "Tell what was invented" if tell else "Do not tell what was invented"
    return _operating(title, TellInvented, TellInvented() if tell else None)


def _operating(title: str, kind: type, step: CoverNadir | TellInvented | None, merge: str = "") -> Edit:
    """Let a step stand for all of its kind, None for nothing; steps keep the order of the table of steps."""

    def apply(outing: Outing) -> Outing:
        rest = [s for s in outing.delivery.operations if not isinstance(s, kind)]
        steps = sorted([*rest, *([] if step is None else [step])], key=lambda s: STEPS.index(type(s)))
        return replace(outing, delivery=replace(outing.delivery, operations=tuple(steps)))

    return Edit(title, apply, merge)


def finish_by(title: str, change: Callable[[tuple[FinishStep, ...]], Sequence[FinishStep]], *, merge: str = "") -> Edit:
    """Change the steps by which the picture is finished, as they are when the edit is made."""
    return Edit(title, lambda o: replace(o, finish=Recipe(tuple(change(o.finish.steps)))), merge)


def know_lens(lens: KnownLens | None) -> Edit:
    """Join with a lens that is known, or let the join find it."""
    return choose("Let the join find the lens" if lens is None else "Use a known lens", lens=lens)


def develop(title: str, *, merge: str = "", **changes: Any) -> Edit:
    """Change the one development of all frames."""
    return _choosing(title, lambda c: {"development": replace(c.development, **changes)}, merge)


def put_aside(key: str, aside: bool) -> Edit:
    """Put a judgement aside, or bring it back."""

    def apply(outing: Outing) -> Outing:
        rest = tuple(k for k in outing.put_aside if k != key)
        return replace(outing, put_aside=(*rest, key) if aside else rest)

    return Edit("Put a remark aside" if aside else "Bring remarks back", apply)


def bring_back_all() -> Edit:
    """Show all remarks again."""
    return Edit("Bring remarks back", lambda o: replace(o, put_aside=()))


def begin_as(name: str, origin: Origin) -> Edit:
    """Say what an outing is that holds nothing yet."""
    return Edit("Begin", lambda o: replace(o, name=name, origin=origin))


def rename(name: str) -> Edit:
    """Give the outing another name."""
    return Edit("Rename the outing", lambda o: replace(o, name=name))
