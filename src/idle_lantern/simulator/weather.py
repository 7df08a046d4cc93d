"""What moves and changes in the invented place while a run lasts: clouds, waves, the light."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True)
class Weather:
    """How fast the sky, the sea and the light change; all at rest by default.

    Attributes
    ----------
    name : str
        How it is told.
    wind_m_s, toward_deg : float
        Speed of the clouds, and the azimuth that they drift to.
    waves_m_s : float
        Speed of the swell towards the land.
    fading_ev_per_min : float
        How fast the light goes, as at dusk.
    cloud_shade : float
        Share of the sunlight that a cloud before the sun takes away.
    """

    name: str = "Still weather"
    wind_m_s: float = 0.0
    toward_deg: float = 75.0
    waves_m_s: float = 0.0
    fading_ev_per_min: float = 0.0
    cloud_shade: float = 0.0

    @property
    def still(self) -> bool:
        """Whether nothing changes with time but where people walk."""
        return not (self.wind_m_s or self.waves_m_s or self.fading_ev_per_min or self.cloud_shade)

    def drift_m(self, time_s: float) -> tuple[float, float]:
        """How far the clouds have gone, east and north."""
        way, toward = self.wind_m_s * time_s, math.radians(self.toward_deg)
        return way * math.sin(toward), way * math.cos(toward)

    def light(self, time_s: float) -> float:
        """What is left of the light, as a factor."""
        return float(2.0 ** (-self.fading_ev_per_min * time_s / 60))

    def sunshine(self, time_s: float) -> float:
        """What clouds before the sun leave of it, as a factor: they come every minute or so, and go in some ten seconds."""
        wave = math.sin(2 * math.pi * time_s / 74) + 0.6 * math.sin(2 * math.pi * time_s / 31)
        covered = min(1.0, max(0.0, (wave - 0.3) / 0.8))
        return 1 - self.cloud_shade * covered


STILL = Weather()
#: Around sunset the light goes by a stop in five minutes (common practice, no source).
WEATHERS = (
    STILL,
    Weather("Breeze: clouds and waves move", wind_m_s=5.0, waves_m_s=1.5),
    Weather("Sun and clouds: the light comes and goes", wind_m_s=14.0, waves_m_s=2.5, cloud_shade=0.75),
    Weather("Dusk: the light fades", wind_m_s=2.0, waves_m_s=0.8, fading_ev_per_min=0.2),
)
