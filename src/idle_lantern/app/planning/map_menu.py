"""The menu of the map while planning: what stands at the place that was pointed at."""

from __future__ import annotations

from PyQt6.QtWidgets import QMenu, QWidget

from idle_lantern.app.planning.scouting_commands import ROLES, ScoutingCommands
from idle_lantern.core.base import units


def map_menu(commands: ScoutingCommands, parent: QWidget, azimuth_deg: float, altitude_deg: float) -> QMenu:
    """The menu about a direction."""
    menu = QMenu(parent)
    azimuth = (azimuth_deg + 180) % 360 - 180
    menu.setAccessibleName(f"At {units.angle(azimuth)}, {units.angle(altitude_deg)}")
    where = menu.addAction(f"Yaw {units.angle(azimuth)}, pitch {units.angle(altitude_deg)}")
    if where is not None:
        where.setEnabled(False)
    for edge, words in (
        ("left", "The picture ends here on the &left"),
        ("right", "The picture ends here on the &right"),
        ("high", "Up to &here"),
        ("low", "&Down to here"),
    ):
        menu.addAction(words, lambda e=edge: commands.set_end(e, azimuth, altitude_deg))
    menu.addSeparator()
    for role, words in (
        ("subject", "Mark the &subject …"),
        ("nearest", "Mark the &nearest thing …"),
        ("whole", "Mark what must not be &cut …"),
        ("thing", "Mark what no seam may &cross …"),
        ("bare", "Mark where frames may be &bare …"),
    ):
        assert role in ROLES
        menu.addAction(words, lambda r=role: commands.ask_mark(r, azimuth, altitude_deg))
    menu.addSeparator()
    menu.addAction("The s&un stands here", lambda: commands.face_by("sun", azimuth, altitude_deg))
    menu.addAction("The &moon stands here", lambda: commands.face_by("moon", azimuth, altitude_deg))
    return menu
