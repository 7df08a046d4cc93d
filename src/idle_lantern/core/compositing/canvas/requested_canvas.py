"""What is asked of a join -> its canvas: projection, turn, scale, and what of it is drawn straight or round all the same."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from idle_lantern.core.compositing.canvas.canvas import Canvas, make_canvas
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import Projection, panini_parameters
from idle_lantern.core.registration.solve.covered_field import Field, field_of
from idle_lantern.core.registration.solve.poses import Poses
from idle_lantern.core.request.options import JoinOptions


def canvas_for(poses: Poses, seen: Field, options: JoinOptions) -> Canvas:
    """The canvas that options ask for, bent where places are eased; poses stay as they are, a wished turn is that of the canvas.

    Raises
    ------
    JoinError
        Nothing of the picture fits the projection, or what shall be eased asks for too much.
    """
    canvas = _projected(poses, seen, options)
    if not options.eased:
        return canvas
    from idle_lantern.core.compositing.canvas.easing import eased  # loads what few pictures need

    return eased(canvas, options.eased)


def _projected(poses: Poses, seen: Field, options: JoinOptions) -> Canvas:
    panini = options.projection == "panini"
    parameters = panini_parameters(options.distance, options.straighten) if panini else None
    if not any(options.turn_deg):
        return make_canvas(poses, seen, options.projection, options.width_px, parameters)
    turn = rotations.from_yaw_pitch_roll(*np.radians(options.turn_deg))
    turned = replace(poses, world_from_camera=turn @ poses.world_from_camera)
    field_then = field_of(turned)
    if not Projection(options.projection if options.projection != "auto" else "cylindrical").wraps:
        # what is turned to the middle is meant to be there
        field_then = replace(field_then, middle_rad=seen.middle_rad)
    if options.projection == "stereographic":  # up and down too: a planet is round about what lies straight below
        field_then = replace(field_then, low_rad=seen.low_rad, high_rad=seen.high_rad)
    canvas = make_canvas(turned, field_then, options.projection, options.width_px, parameters)
    return replace(canvas, canvas_from_world=canvas.canvas_from_world @ turn)
