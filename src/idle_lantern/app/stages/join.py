"""Join: run it, watch the rough picture come within seconds and sharpen, look at it at 100 %."""

from __future__ import annotations

import html
import json
import logging
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPolygonF
from PyQt6.QtWidgets import QComboBox

from idle_lantern.app import theme
from idle_lantern.app.masking import MaskDialog
from idle_lantern.app.stages.base import Stage
from idle_lantern.app.tasks import Task
from idle_lantern.app.widgets.basics import button, column, form, label, panel, row, scrolled, set_look_property
from idle_lantern.app.widgets.map_view import JoinOnMap, outlines
from idle_lantern.app.widgets.picture_view import PictureView, pyramid
from idle_lantern.core.base import units
from idle_lantern.core.base.atomic import write_text
from idle_lantern.core.base.errors import InputError, LanternError
from idle_lantern.core.deliver.writing import write
from idle_lantern.core.frames.decoded import DecodedFrames
from idle_lantern.core.frames.frameset import FrameSet, gather
from idle_lantern.core.frames.masks import masks_in
from idle_lantern.core.frames.reading import read
from idle_lantern.core.geometry import rotations
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.geometry.sphere import azimuth_altitude
from idle_lantern.core.join.canvas.canvas import make_canvas
from idle_lantern.core.join.canvas.unroll import unroll_canvas
from idle_lantern.core.join.checkpoint import Checkpoint, checkpointed, checkpoints_folder, solving_key
from idle_lantern.core.join.light.vignetting import NONE
from idle_lantern.core.join.options import JoinOptions
from idle_lantern.core.join.pipeline import STAGE_WEIGHTS, check_memory
from idle_lantern.core.join.render.compose import Joined, compose_picture, rough_picture
from idle_lantern.core.join.report import canvas_of, crop_of, report_of, solution_of
from idle_lantern.core.join.solve.placing import placing_in_words
from idle_lantern.core.join.solve.solve import Solution, solve
from idle_lantern.core.outing import document, edits
from idle_lantern.core.outing.model import FrameRef
from idle_lantern.core.plan.cost import PastJoin
from idle_lantern.core.plan.grid import GridFrame

if TYPE_CHECKING:
    from idle_lantern.app.window import Window

Array = NDArray[Any]

JOINING = "Joining"
log = logging.getLogger(__name__)

PICTURE, REPORT = "joined.tif", "joined.json"
_CHOICES = ("auto", *PROJECTIONS)


@dataclass(frozen=True)
class Shown:
    """What the window needs to show a rough or finished picture."""

    levels: list[Array]
    full_width: int
    on_map: Array
    rough: bool
    solution: Solution | None = None
    joined: Joined | None = None
    files: tuple[str, ...] = ()


class JoinStage(Stage):
    """From frames to one picture."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.view = PictureView()
        self.view.placeholder = "The joined picture appears here: a rough one within seconds, then the full one."
        self.run_button = button("Join the frames   [Ctrl + J]", self.run_join, main=True, name="join")
        self.deliver_button = button("Deliver it", lambda: window.go("deliver"), name="go-deliver")
        self.projection = QComboBox()
        self.projection.setAccessibleName("Projection")
        self.projection.setObjectName("projection")
        self.projection.addItems(["by itself (auto)", *PROJECTIONS])
        self.projection.activated.connect(self._choose_projection)
        self.status = label("", wrap=True, name="join-status")
        self.reason = label("", "dim", wrap=True)
        self.facts = {
            k: label("", "figure", name=f"join-{k}") for k in ("size", "crop", "fit", "lens", "frames", "time")
        }
        figures = form(
            [
                ("Picture", self.facts["size"]),
                ("Without gaps", self.facts["crop"]),
                ("Mean miss", self.facts["fit"]),
                ("Lens found", self.facts["lens"]),
                ("Frames used", self.facts["frames"]),
                ("It took", self.facts["time"]),
            ]
        )
        self.findings = label("", "dim", wrap=True, name="join-findings")
        self.left_out = label("", wrap=True, name="join-left-out")
        self.left_out.setTextFormat(Qt.TextFormat.RichText)
        self.left_out.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        self.left_out.linkActivated.connect(self._put_back)
        self.mask_button = button("Hide or keep parts of frames ...", self.open_masks, quiet=True, name="join-masks")
        self.zoom_text = label("", "dim")
        self.view.zoomed.connect(lambda z: self.zoom_text.setText(f"{100 * z * self.view.devicePixelRatioF():.0f} %"))
        tools = row(
            self.zoom_text,
            None,
            button("Fit   [0]", self.view.fit, quiet=True),
            button("100 %   [1]", self.view.show_full, quiet=True),
            button("+", lambda: self.view.zoom_by(1.5), quiet=True),
            button("−", lambda: self.view.zoom_by(1 / 1.5), quiet=True),
        )
        side = column(
            self.run_button,
            self.status,
            8,
            form([("Projection", self.projection)]),
            self.reason,
            8,
            figures,
            scrolled(panel(column(self.findings, self.left_out, None), "ground")),
            self.mask_button,
            row(None, self.deliver_button),
        )
        side_panel = panel(side, "ground")
        side_panel.setFixedWidth(380)
        layout = row(margin=16, space=theme.SPACE * 2)
        layout.addWidget(panel(column(self.view, tools), "ground"), 1)
        layout.addWidget(side_panel)
        self.setLayout(layout)
        self.state.changed.connect(self._refresh)
        window.tasks.changed.connect(self._show_status)

    # --- running ----------------------------------------------------------------

    def can_join(self) -> bool:
        """Whether there is something to join and nothing is being joined."""
        return len(self.state.outing.frames_to_join()) >= 2 and not self.window_.tasks.busy(JOINING)

    def run_join(self) -> None:
        """Join the frames of the outing."""
        refs = self.state.outing.frames_to_join()
        if len(refs) < 2:
            self.state.message.emit(
                "A join needs at least two frames. Shoot them in Field or bring pictures in under Frames.", True
            )
            return
        self._start(refs, None)

    def _choose_projection(self, index: int) -> None:
        name = _CHOICES[index]
        if name == self.state.outing.choices.projection:
            return
        self.state.apply(edits.choose(f"Choose the projection {name}", projection=name))

    def _put_back(self, link: str) -> None:
        """A link beside a left-out frame: use it all the same, or leave it to the join again."""
        word, _, file = link.partition(":")
        self.state.apply(edits.put_back(file, word == "use"))
        self.run_join()

    def can_mask(self) -> bool:
        """Whether there are frames to paint on and none is being joined."""
        return bool(self.state.outing.frames_to_join()) and not self.window_.tasks.busy(JOINING)

    def open_masks(self) -> MaskDialog | None:
        """Paint what must not show, or must."""
        refs, folder = self.state.outing.frames_to_join(), self.state.folder
        if not refs or folder is None:
            self.state.message.emit(
                "There are no frames to paint on. Shoot some or bring pictures in under Frames.", True
            )
            return None
        chosen = next((i for i, r in enumerate(refs) if r.file == self.state.selected_file), 0)
        paths = [self.state.path_of(r) for r in refs]
        dialog = MaskDialog(self.window_, folder / document.MASKS, paths, chosen, self._masks_painted)
        dialog.show()
        dialog.activateWindow()
        return dialog

    def _masks_painted(self) -> None:
        """Make the picture again with the masks as they are now; nothing is matched anew."""
        if self.state.solution is not None and not self.state.join_is_stale:
            self._start(self.state.outing.frames_to_join(), self.state.solution)

    def _start(self, refs: tuple[FrameRef, ...], solution: Solution | None) -> None:
        folder = self.state.folder
        if folder is None or self.window_.tasks.busy(JOINING):
            return
        projection = self.state.outing.choices.projection
        paths = [self.state.path_of(r) for r in refs]
        prior = [_prior(r) for r in refs]
        files = tuple(r.file for r in refs)
        wanted = frozenset(i for i, f in enumerate(files) if f in self.state.outing.choices.put_back)

        def work(task: Task) -> Shown:
            options = JoinOptions(projection=projection, wanted=wanted)
            frames = gather(paths) if solution is None else solution.frames
            known = prior if all(p is not None for p in prior) else None
            with checkpointed(checkpoints_folder(), solving_key(frames, options, known)) as left:
                return joined_in_steps(task, frames, options, known, left)

        def joined_in_steps(
            task: Task, frames: FrameSet, options: JoinOptions, known: list[Array | None] | None, left: Checkpoint
        ) -> Shown:
            begun = time.monotonic()
            kept = DecodedFrames(frames.infos, options.memory() // 4)
            masks = masks_in(folder / document.MASKS, frames.names)

            early_ones: list[Solution] = []

            def show_rough(early: Solution) -> None:
                early_ones.append(early)
                canvas = make_canvas(early.poses, early.seen, projection)
                rough = rough_picture(early, canvas, options, _Quiet(task), masks)
                task.show(_shown(rough, canvas.width, early, rough=True))

            solved = solution or solve(frames, options, known, task, kept, left, show_rough)
            canvas = make_canvas(solved.poses, solved.seen, projection)
            check_memory(canvas, deep=any(i.bits == 16 for i in solved.frames.infos))
            if not early_ones:  # another projection, or a join taken up again: nothing is shown yet
                show_rough(solved)
            joined = compose_picture(solved, canvas, options, task, store=kept, masks=masks)
            task.begin("write", 1)
            target = folder / document.PICTURES
            target.mkdir(parents=True, exist_ok=True)
            report = {**report_of(solved, joined, crop=False), "outing_files": list(files)}
            write(joined.picture, target / PICTURE)
            write_text(target / REPORT, json.dumps(report, indent=1))
            task.advance()
            if solution is None:  # a new projection of known poses says nothing of what a join takes
                self._remember(solved, joined, time.monotonic() - begun, float(report["peak_rss_mib"]))
            return _shown(joined, canvas.width, solved, rough=False, files=files)

        self.window_.tasks.start(
            JOINING, work, self._finished, self._failed, weights=STAGE_WEIGHTS, on_partial=self._partial
        )
        self._show_status()

    def _remember(self, solved: Solution, joined: Joined, seconds: float, peak_mib: float) -> None:
        """Keep what the join took, for the plans to come; an unreadable library is no reason to fail a join."""
        if self.window_.gear is None:
            return
        infos = solved.frames.infos
        made = joined.canvas.width * joined.canvas.height / 1e6
        past = PastJoin(len(infos), sum(i.megapixels for i in infos), made, seconds, peak_mib)
        try:
            self.window_.gear.add_join(past)
        except LanternError as error:
            log.warning("past join not kept: %s", error)

    def _partial(self, shown: Shown) -> None:
        self.view.crop = None
        self.view.set_levels(shown.levels, shown.full_width)
        self.window_.map.set_picture(shown.on_map)

    def _finished(self, shown: Shown) -> None:
        self.view.set_levels(shown.levels, shown.full_width)
        self.window_.map.set_picture(shown.on_map)
        self.window_.map.set_join(self._on_map(shown.solution, shown.files))
        self.state.set_joined(shown.solution, shown.joined, shown.files)
        self.window_.deliver_stage.view.set_levels(shown.levels, shown.full_width)
        if self.window_.gear is not None:
            self.state.set_past(self.window_.gear.past_joins())

    def _on_map(self, solution: Solution | None, files: tuple[str, ...]) -> JoinOnMap:
        """Links by quality, and outlines of frames that have no cell in the plan or that nothing ties."""
        if solution is None:
            return JoinOnMap()
        poses = solution.poses
        azimuth, altitude = (np.degrees(v) for v in azimuth_altitude(poses.world_from_camera[:, :, 2]))
        middle = {f: QPointF(float(azimuth[i]), float(altitude[i])) for i, f in enumerate(poses.frames)}
        most = max((k.inliers for k in solution.links), default=1)
        links = [
            (middle[k.a], middle[k.b], k.inliers / most)
            for k in solution.links
            if abs(middle[k.a].x() - middle[k.b].x()) < 180  # across the end of the map a line would run all over it
        ]
        planned = {shot.file for f in self.state.plan.frames if (shot := self.state.outing.shot(f)) is not None}
        tied: list[QPolygonF] = []
        loose: list[QPolygonF] = []
        for i, f in enumerate(poses.frames):
            by_features = solution.placed_by.get(f) == "features"
            if f < len(files) and not (by_features and files[f] in planned):
                yaw, pitch, roll = (
                    float(np.degrees(v)) for v in rotations.to_yaw_pitch_roll(poses.world_from_camera[i])
                )
                shapes = outlines(poses.lenses[i], [GridFrame(f + 1, 1, f + 1, yaw, pitch, roll)])
                (tied if by_features else loose).extend(shapes)
        return JoinOnMap(tuple(tied), tuple(loose), tuple(links))

    def _failed(self, error: LanternError) -> None:
        self.state.message.emit(error.sentence, True)
        self.status.setText(error.sentence)

    def load_finished(self) -> None:
        """Bring the picture of an earlier join back, when the outing has one."""
        folder = self.state.folder
        if (
            folder is None
            or not (folder / document.PICTURES / REPORT).exists()
            or not (folder / document.PICTURES / PICTURE).exists()
        ):
            return
        target = folder / document.PICTURES

        def work(_task: Task) -> Shown:
            try:
                report = json.loads((target / REPORT).read_text(encoding="utf-8"))
                canvas, crop = canvas_of(report), crop_of(report)
            except (OSError, ValueError, KeyError, TypeError) as error:
                raise InputError(
                    "The report of the last join is damaged", where=str(target / REPORT), remedy="Join again"
                ) from error
            picture = read(target / PICTURE)
            joined = Joined(
                canvas, np.zeros((0, 3)), np.zeros((0, 0)), crop, NONE, report.get("timings_s", {}), picture
            )
            files = tuple(str(f) for f in report.get("outing_files", ()))
            return replace(
                _shown(joined, canvas.width, None, rough=False, files=files), solution=_solution(report, folder, files)
            )

        def done(shown: Shown) -> None:
            if self.state.folder == folder and self.state.joined is None:
                self._finished(shown)

        self.window_.tasks.start(
            "Opening the joined picture", work, done, lambda e: self.state.message.emit(e.sentence, True)
        )

    # --- showing ----------------------------------------------------------------

    def showEvent(self, event: Any) -> None:
        self._refresh({"join", "frames", "choices"})
        super().showEvent(event)

    def _refresh(self, topics: set[str]) -> None:
        if "outing" in topics and "join" in topics and self.state.joined is None:
            self.view.set_levels([])
        choice = self.state.outing.choices.projection
        if "choices" in topics:
            self.projection.setCurrentIndex(_CHOICES.index(choice))
            solution = self.state.solution
            if solution is not None and not self.state.join_is_stale and self._chosen_before not in (None, choice):
                self._start(self.state.outing.frames_to_join(), solution)
            self._chosen_before = choice
        if topics & {"join", "frames", "choices"}:
            self._show_facts()
            self._show_status()

    _chosen_before: str | None = None

    def _show_status(self) -> None:
        task = self.window_.tasks.shown
        joining = self.window_.tasks.busy(JOINING)
        self.run_button.setEnabled(self.can_join())
        self.mask_button.setEnabled(self.can_mask())
        finished = self.state.joined is not None and not self.state.join_is_stale and not joining
        set_look_property(self.run_button, "main", not finished)
        set_look_property(self.deliver_button, "main", finished)
        self.run_button.setText("Join again   [Ctrl + J]" if finished else "Join the frames   [Ctrl + J]")
        n = len(self.state.outing.frames_to_join())
        if joining and task is not None and task.title == JOINING:
            left = task.clock.remaining_s
            rest = f", about {units.duration(left)} left" if left is not None else ""
            self.status.setText(f"{task.clock.fraction:.0%}: {_PLAIN.get(task.clock.stage, task.clock.stage)}{rest}")
        elif self.state.join_is_stale:
            self.status.setText("Frames came or went since this join. Join again to take them in.")
        elif self.state.joined is not None:
            self.status.setText("Joined. The picture and its report are kept in the outing's folder.")
        elif n < 2:
            self.status.setText("Two frames at least are needed. Shoot them in Field or bring them in under Frames.")
        else:
            self.status.setText(f"{n} frames are ready to be joined.")

    def _show_facts(self) -> None:
        joined, solution = self.state.joined, self.state.solution
        for value in self.facts.values():
            value.setText("–")
        self.left_out.setText("")
        self.findings.setText("")
        self.reason.setText("")
        self.view.crop = None
        if joined is None:
            return
        c = joined.canvas
        self.facts["size"].setText(f"{units.grouped(c.width)} × {units.grouped(c.height)} px")
        self.facts["crop"].setText(f"{units.grouped(joined.crop.width)} × {units.grouped(joined.crop.height)} px")
        self.view.crop = joined.crop
        self.view.update()
        self.reason.setText(c.reason)
        self.facts["time"].setText(
            units.duration(sum(joined.timings_s.values()) + sum(solution.timings_s.values() if solution else ()))
        )
        if solution is None:
            self.facts["frames"].setText(f"{len(self.state.joined_files)}")
            return
        poses = solution.poses
        self.facts["fit"].setText(f"{poses.rms_px:.2f} px")
        lens = poses.lenses[0]
        self.facts["lens"].setText(
            f"{lens.model}, f = {units.measured(lens.focal_px, lens.focal_px * poses.focal_sigma)} px"
        )
        self.facts["frames"].setText(f"{len(poses.frames)} of {len(solution.frames)}")
        told = [found.sentence() for found in (solution.parallax, solution.level) if found]
        told += [placing_in_words(solution.frames.names, poses, solution.placed_by)]
        self.findings.setText("\n".join(filter(None, told)))
        self.left_out.setText("<br>".join(self._left_out_rows(solution)))

    def _left_out_rows(self, solution: Solution) -> list[str]:
        """Each frame that is not in the picture with its reason, and those used on demand, with what can be done."""
        rows, files, back = [], self.state.joined_files, self.state.outing.choices.put_back
        for f, reason in sorted(solution.reasons.items()):
            text = f"{html.escape(solution.frames.names[f])}: {html.escape(reason)}"
            if f < len(files) and files[f] not in back:
                text += f' <a href="use:{html.escape(files[f])}">Use it all the same</a>'
            rows.append(text)
        for f, file in enumerate(files):
            if file in back:
                name = html.escape(solution.frames.names[f])
                rows.append(f'{name}: used as you asked. <a href="leave:{html.escape(file)}">Leave it to the join</a>')
        return rows


class _Quiet:
    """Lets the rough picture be cancelled without moving the progress of the whole run."""

    def __init__(self, task: Task) -> None:
        self._task = task

    def begin(self, stage: str, total: int) -> None:
        """Only the chance to stop."""
        self._task.advance(0)

    def advance(self, n: int = 1) -> None:
        """Only the chance to stop."""
        self._task.advance(0)


_PLAIN = {
    "read": "reading the frames",
    "features": "finding points",
    "match": "matching",
    "adjust": "turning the frames into place",
    "refine": "placing points exactly",
    "warp": "laying frames on the canvas",
    "seams": "choosing seams",
    "blend": "melting frames together",
    "write": "saving",
}


def _prior(ref: FrameRef) -> Array | None:
    if ref.yaw_deg is None or ref.pitch_deg is None:
        return None
    return rotations.from_yaw_pitch_roll(*np.radians([ref.yaw_deg, ref.pitch_deg, ref.roll_deg or 0.0]))


def _shown(
    joined: Joined, full_width: int, solution: Solution | None, *, rough: bool, files: tuple[str, ...] = ()
) -> Shown:
    levels = pyramid(joined.picture.pixels, joined.picture.alpha)
    h, w = levels[0].shape[:2]
    fitting = next((level for level in levels if level.shape[1] <= 4000), levels[-1])
    alpha = joined.picture.alpha
    thin = (
        None
        if alpha is None
        else alpha[:: max(1, h // fitting.shape[0]), :: max(1, w // fitting.shape[1])][
            : fitting.shape[0], : fitting.shape[1]
        ]
    )
    if thin is not None and thin.dtype != np.uint8:
        thin = (thin >> 8).astype(np.uint8)
    on_map = unroll_canvas(fitting, thin, joined.canvas)
    return Shown(levels, full_width, on_map, rough, None if rough else solution, None if rough else joined, files)


def _solution(report: dict[str, Any], folder: Path, files: tuple[str, ...]) -> Solution | None:
    """What an earlier join solved, so that another projection need not match again; None if frames are gone."""
    try:
        frames = gather([document.resolve(folder, FrameRef(f)) for f in files])
        return solution_of(report, frames, JoinOptions().working_mp)
    except (LanternError, KeyError, TypeError, ValueError) as error:
        log.info("the solution of the last join cannot be taken up: %s", error)
        return None
