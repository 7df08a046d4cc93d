"""A picture bound to how it is delivered: what is shown of it while that is chosen, and what is written."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from idle_lantern.core.base.errors import InputError
from idle_lantern.core.colour.profiles import named_space
from idle_lantern.core.colour.space import ColourSpace
from idle_lantern.core.deliver.ball import Ball
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.known import Known, share_within, shows_nadir
from idle_lantern.core.deliver.layers import FrameLayer
from idle_lantern.core.deliver.margin import InventedMargin, margin_of
from idle_lantern.core.deliver.nadir_patch import NadirPatch, read_mark
from idle_lantern.core.deliver.output_sharpening import sharpened
from idle_lantern.core.deliver.sphere import sphere_in
from idle_lantern.core.deliver.zoom_page import Caption
from idle_lantern.core.finish.finishing import finished
from idle_lantern.core.finish.healing import covered
from idle_lantern.core.finish.recipe import Recipe
from idle_lantern.core.finish.recipe_files import RecipeFile
from idle_lantern.core.finish.steps.heal import Heal
from idle_lantern.core.finish.tile_look import Ground
from idle_lantern.core.finish.tile_look import no_assets as no_recipe_files
from idle_lantern.core.frames.metadata import Metadata
from idle_lantern.core.geometry.rectangles import Rectangle
from idle_lantern.core.pictures.operations import CroppedPicture, OperatedPicture
from idle_lantern.core.pictures.resized import ResizedPicture
from idle_lantern.core.pictures.source import PictureSource

#: Where an asset of the document lies, by its hash and ending.
AssetFile = Callable[[str, str], Path]


def no_assets(asset: str, _ending: str) -> Path:
    """Of a job that names none."""
    raise InputError("is named by the job and lies nowhere", where=asset)


#: The frames of the picture as layers; raises InputError where they are gone.
FramesOf = Callable[[], Sequence[FrameLayer]]


def no_frames() -> Sequence[FrameLayer]:
    """Of a picture of which nothing else is known."""
    return ()


def delivered_space(profile: str, own: ColourSpace, assets: Callable[[str, str], Path]) -> ColourSpace:
    """The space of a file with a job's ``profile``, of a picture whose ``own`` is given; raises InputError where it cannot be read."""
    if profile == "keep":
        return own
    if profile in ("srgb", "p3"):
        return named_space(profile)
    file = assets(profile, "icc")
    try:
        return named_space(file.name, file.read_bytes())
    except OSError as error:
        raise InputError("Cannot be read", where=str(file), remedy="Choose the profile again") from error


@dataclass(frozen=True)
class Delivery:
    """A job bound to a picture: what is shown while it is chosen, and what is written; ``told`` is what the file says of itself."""

    job: DeliverJob
    picture: PictureSource
    known: Known = field(default_factory=Known)
    assets: AssetFile = no_assets
    recipe: Recipe = field(default_factory=Recipe)
    recipe_files: RecipeFile = no_recipe_files
    title: str = ""
    frames: FramesOf = no_frames
    told: Metadata = field(default_factory=Metadata)
    captions: tuple[Caption, ...] = ()

    def shown(self) -> PictureSource:
        """All of the picture, finished, with what is laid over it; raises InputError where a mark or a mask cannot be used."""
        picture = self.finished()
        patch = self._nadir_patch(picture)
        return picture if patch is None else OperatedPicture(picture, [patch])

    def finished(self) -> PictureSource:
        """The picture as its recipe makes it; raises InputError where a mask cannot be used."""
        ground = Ground(self.picture.space, self.picture.sizes[0], self.known.canvas, self.recipe_files)
        return finished(self.picture, self.recipe, ground)

    def made(self, box: Rectangle, *, light: bool = False) -> PictureSource:
        """The picture as it is written, cut to ``box``.

        Raises
        ------
        InputError
            A mark, a mask or a profile cannot be read.
        """
        made = self.finished()
        patch = self._nadir_patch(made)
        made = made if patch is None else OperatedPicture(made, [patch])
        whole = Rectangle(0, 0, *made.sizes[0])
        if box != whole:
            made = CroppedPicture(made, box)
        space = delivered_space(self.job.profile, self.picture.space, self.assets)
        margin = self._margin(box, patch) if self.job.tells_invented else None
        if margin is not None or space != made.space:
            made = OperatedPicture(made, [] if margin is None else [margin], space, light=light)
        made = made if self.job.long_side_px is None else ResizedPicture(made, self.job.long_side_px)
        return made if light else sharpened(made, self.job)

    def _nadir_patch(self, picture: PictureSource) -> NadirPatch | None:
        step, canvas = self.job.nadir, self.known.canvas
        if step is None or canvas is None or not shows_nadir(canvas, *self.picture.sizes[0]):
            return None
        if step.how == "blur":
            return NadirPatch(picture, canvas, "blur", step.radius_deg)
        if step.mark is None:
            return None
        return NadirPatch(picture, canvas, "mark", step.radius_deg, read_mark(self.assets(step.mark, "png")))

    def _healed(self) -> list[tuple[Rectangle, float]]:
        """What healing covers: ground that was not photographed there."""
        canvas, steps = self.known.canvas, self.recipe.working
        spots = [spot for step in steps if isinstance(step, Heal) for spot in step.spots]
        return [] if canvas is None else covered(spots, canvas, self.picture.sizes[0])

    def _margin(self, box: Rectangle, patch: NadirPatch | None) -> InventedMargin | None:
        areas = [*self.known.invented, *self._healed(), *([] if patch is None else [patch.covers()])]
        shares = [(area, share_within(area, pixels, box)) for area, pixels in areas]
        shown = [(area, share) for area, share in shares if share > 0]
        if not shown:
            return None
        total = min(1.0, sum(share for _area, share in shown))
        return InventedMargin(margin_of(self.picture, box, [area for area, _share in shown], total))


def ball_of(delivery: Delivery, box: Rectangle, *, profile: str | None = None) -> Ball:
    """The picture as it is written with what is known of its directions; raises InputError where nothing is."""
    job = delivery.job if profile is None else replace(delivery.job, profile=profile)
    canvas = sphere_in(delivery.known, (box.width, box.height), box, any_projection=True)
    return Ball(replace(delivery, job=job).made(box), canvas)
