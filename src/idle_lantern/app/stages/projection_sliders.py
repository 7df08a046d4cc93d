"""What a projection lets be chosen: panini's eye and lines, and where a round picture looks."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QWidget

from idle_lantern.app.stages import compose_model as model
from idle_lantern.app.stages.compose_hand import ComposeHand
from idle_lantern.app.widgets.basics import button, column, row
from idle_lantern.app.widgets.slider_row import SliderRow
from idle_lantern.core.request.choices import JoinChoices

#: Steps of panini's sliders from 0 to 1.
_STEPS = 50


class ProjectionSliders(QWidget):
    """Shows those of the present projection, none for most."""

    def __init__(self, hand: ComposeHand) -> None:
        super().__init__()
        self._hand = hand
        self.distance = self._slider(
            "distance", "Eye behind", "Distance of the eye", 3.0, "Panini: distance of the eye"
        )
        self.straighten = self._slider(
            "straighten", "Lines across", "Lines across straightened", 1.0, "Panini: lines across"
        )
        self.look = SliderRow(
            "Look", "compose-look", "Where the picture looks, up or down", -90.0, 90.0, 1, model.look_told,
            trying=lambda value: hand.try_out(turn_deg=model.looking(hand.choices.turn_deg, value)),
            taken=lambda value: self._look(value, "Look up or down", merge="look"),
        )  # fmt: skip
        self.planet_button = button("Planet", lambda: self._look(-90.0, "Planet"), name="compose-planet")
        self.ball_button = button("Mirror ball", lambda: self._look(90.0, "Mirror ball"), name="compose-ball")
        self._round = QWidget()
        self._round.setLayout(column(self.look, row(self.planet_button, self.ball_button, None)))
        layout = column(self.distance, self.straighten, self._round)
        layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(layout)

    def show_for(self, choices: JoinChoices, present: str) -> None:
        """What was chosen, for the projection that the picture has."""
        panini, stereographic = choices.projection == "panini", present == "stereographic"
        for slider, value in ((self.distance, choices.distance), (self.straighten, choices.straighten)):
            slider.setVisible(panini)
            slider.show_value(value)
        self._round.setVisible(stereographic)
        self.look.show_value(-choices.turn_deg[1])
        self.setVisible(panini or stereographic)

    def _slider(self, choice: str, title: str, spoken: str, most: float, done: str) -> SliderRow:
        def changed(value: float) -> dict[str, Any]:
            return {choice: value}

        return SliderRow(
            title,
            f"compose-{choice}",
            spoken,
            0.0,
            most,
            _STEPS,
            model.SLIDERS[choice],
            trying=lambda value: self._hand.try_out(**changed(value)),
            taken=lambda value: self._hand.apply(done, merge=choice, **changed(value)),
        )

    def _look(self, up_deg: float, title: str, merge: str = "") -> None:
        """Let the middle of a round picture lie so far up: the ground at -90 degrees, the sky at 90."""
        self._hand.turn_to(model.looking(self._hand.choices.turn_deg, up_deg), title, merge=merge)
