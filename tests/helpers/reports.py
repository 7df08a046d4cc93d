"""Reports of a join as they stand in the file."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from idle_lantern.core.compositing.render.compose import Composed
from idle_lantern.core.join import report_making
from idle_lantern.core.join.report import Report
from idle_lantern.core.registration.solve.solve import Solution


def report_of(solution: Solution, joined: Composed, **more: Any) -> dict[str, Any]:
    """The report of a finished join, through its JSON."""
    report: dict[str, Any] = json.loads(report_making.report_of(solution, joined, **more).to_json())
    return report


def typed(report: dict[str, Any]) -> Report:
    """A report from its JSON."""
    return msgspec.convert(report, Report)
