"""A rail setting that was measured: taken into the plan, and kept for the lens where the gear library holds it."""

from __future__ import annotations

import datetime
from dataclasses import replace

from idle_lantern.app.context import AppContext
from idle_lantern.core.base.errors import LanternError
from idle_lantern.core.gear.entries import LensEntry, RailFound
from idle_lantern.core.outing import edits

#: Focal lengths that differ by less are one (a zoom's scale tells no more).
_SAME_MM = 0.05


def keep_rail(context: AppContext, setting_mm: float, doubt_mm: float, title: str) -> bool:
    """Plan with a setting and keep it for the lens and focal length of the plan; false where the outing may not be changed."""
    rig = context.state.outing.rig
    setting, doubt = round(setting_mm, 1), round(max(0.1, doubt_mm), 1)
    if not context.state.apply(edits.set_rig(title, rail_mm=setting, rail_doubt_mm=doubt)):
        return False
    kept = ""
    try:
        entry = context.gear.get("lens", rig.lens_name) if context.gear is not None and rig.lens_name else None
        if context.gear is not None and entry is not None and isinstance(entry.facts, LensEntry):
            rest = tuple(r for r in entry.facts.rail if abs(r[0] - rig.focal_mm) > _SAME_MM)
            rail = tuple(sorted((*rest, (rig.focal_mm, setting))))
            others = tuple(n for n in entry.facts.rail_found if abs(n.focal_mm - rig.focal_mm) > _SAME_MM)
            found = RailFound(rig.focal_mm, doubt, datetime.date.today().isoformat(), rig.camera)
            facts = replace(
                entry.facts, rail=rail, rail_found=tuple(sorted((*others, found), key=lambda n: n.focal_mm))
            )
            context.gear.put(replace(entry, facts=facts))
            kept = f" Kept for {entry.name} at {rig.focal_mm:g} mm."
    except LanternError as error:
        context.tell(error.sentence)
        return True
    context.tell(f"The rail stands at {setting:g} mm, known within {doubt:g} mm.{kept}", problem=False)
    return True
