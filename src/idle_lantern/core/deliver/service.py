"""The one way to deliver a picture: a frozen job in, files out. Window and command line use it alike."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from idle_lantern.core.base.atomic import check_writable, replacing
from idle_lantern.core.base.errors import InputError
from idle_lantern.core.base.paths import check_outputs
from idle_lantern.core.base.progress import SILENT, Progress
from idle_lantern.core.base.runners import Runner
from idle_lantern.core.deliver.cube import cube_files, face_px, write_cube
from idle_lantern.core.deliver.delivery import Delivery, ball_of
from idle_lantern.core.deliver.demanding import SOUGHT_PX
from idle_lantern.core.deliver.formats import check_target, format_of
from idle_lantern.core.deliver.job import DeliverJob
from idle_lantern.core.deliver.kinds import Kind, kind_named
from idle_lantern.core.deliver.layers import write_layers
from idle_lantern.core.deliver.look_page import PagePlace, write_look_page
from idle_lantern.core.deliver.print_layout import laid_out
from idle_lantern.core.deliver.proof import (
    Line,
    proved_iiif,
    proved_layers,
    proved_page,
    proved_picture,
    proved_print,
    proved_sphere,
    proved_tiles,
)
from idle_lantern.core.deliver.sphere import SpherePlace, sphere_facts, sphere_in
from idle_lantern.core.deliver.strip_layout import strip_of
from idle_lantern.core.deliver.write_options import WriteOptions
from idle_lantern.core.deliver.writing import write_part
from idle_lantern.core.deliver.xmp import xmp_packet
from idle_lantern.core.deliver.zoom_page import Caption, folder_of_page, write_zoom_page
from idle_lantern.core.deliver.zoom_tiles import files_of_xml_tiles, write_iiif, write_xml_tiles
from idle_lantern.core.geometry.rectangles import Rectangle, size_within
from idle_lantern.core.pictures.resized import ResizedPicture
from idle_lantern.core.pictures.source import PictureSource


def kind_written(job: DeliverJob, target: Path) -> Kind:
    """What is written to a target: a picture file by its ending, else what the job says.

    Raises
    ------
    InputError
        The target's name does not end as that does.
    """
    kind = kind_named(job.format)
    if kind.format is not None and kind.name == kind.format.name:
        return kind_named(format_of(target).name)
    if kind.endings and target.suffix.lower() not in kind.endings:
        raise InputError(f"A {kind.name} is not named so", where=str(target), remedy=f"End it in {kind.ending}")
    return kind


def check_delivery(delivery: Delivery, target: Path, box: Rectangle, inputs: Sequence[Path]) -> None:
    """Say before the work starts whether a picture cut to ``box`` can be written there.

    Raises
    ------
    InputError
        The target is one of ``inputs``, cannot be written, or its format cannot hold the picture.
    """
    job = delivery.job
    kind = kind_written(job, target)
    if kind.is_sphere and job.tells_invented:
        raise InputError("A sphere has no margin that could tell anything", remedy="Do not tell what is invented there")
    check_outputs(_outputs(kind, target), inputs)
    if kind.name in ("tiles", "tiles-page", "iiif"):
        folder = _tile_folder(kind, target)
        for path in inputs:
            if folder.resolve() in path.resolve().parents:
                raise InputError(
                    "Lies in the folder that would be written", where=str(path), remedy="Take another name"
                )
    size = size_within(box.width, box.height, job.long_side_px)
    if kind.is_printed:
        laid_out((box.width, box.height), job.dpi, job.on_paper)
    if kind.is_sphere:
        sphere_in(delivery.known, (box.width, box.height), box, any_projection=kind.name != "sphere")
    if kind.format is not None and target.suffix.lower() in kind.format.endings and kind.name != "cube":
        check_target(target, *size)
    elif kind.name != "iiif":
        check_writable(target)


def _outputs(kind: Kind, target: Path) -> list[Path]:
    if kind.name == "cube":
        return cube_files(target)
    return [files_of_xml_tiles(target)[0] if kind.name == "tiles" else target]


def _tile_folder(kind: Kind, target: Path) -> Path:
    if kind.name == "iiif":
        return target
    return folder_of_page(target) if kind.name == "tiles-page" else files_of_xml_tiles(target)[1]


def deliver(
    delivery: Delivery,
    target: Path,
    box: Rectangle,
    *,
    alpha: bool = True,
    inputs: Sequence[Path] = (),
    progress: Progress = SILENT,
    runner: Runner | None = None,
) -> Delivered:
    """Write a picture as its job says, cut to ``box``, and look at what was written. A picture file without ``alpha`` where it has no gaps;
    its tiles are made by ``runner``, None for threads of this process.

    Raises
    ------
    InputError
        The target is one of ``inputs`` or cannot be written, or something cannot be read; nothing is left half-written.
    Cancelled
        Stopped; nothing is left.
    """
    check_delivery(delivery, target, box, inputs)
    kind = kind_written(delivery.job, target)
    told = replace(delivery.told, orientation=1)
    options = WriteOptions(delivery.job.quality, delivery.job.dpi, told, alpha=alpha, xmp=xmp_packet(told))
    if kind.format is not None and kind.name == kind.format.name:
        return _write_file(delivery, target, box, options, progress, runner)
    return _WRITERS[kind.name](delivery, target, box, options, progress, runner)


@dataclass(frozen=True)
class Delivered:
    """What was written, and what was looked at afterwards."""

    path: Path
    proof: tuple[Line, ...]


def _write_file(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    kind = format_of(target)
    light = kind.light == "always" or (kind.light == "asked" and delivery.job.light)
    made = delivery.made(box, light=light)
    return Delivered(target, _written_and_proved(made, target, replace(options, light=light), progress, runner))


def _written_and_proved(
    made: PictureSource,
    target: Path,
    options: WriteOptions,
    progress: Progress,
    runner: Runner | None = None,
    *,
    sphere: bool = False,
) -> tuple[Line, ...]:
    """Write a picture file, read it back, and put it in its place only where it is as it should be."""
    check_target(target, *made.sizes[0])
    with replacing(target) as part:
        write_part(made, part, options, progress, runner)
        return (*proved_picture(part, format_of(target), made), *(proved_sphere(part) if sphere else ()))


def _write_sphere(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    made = delivery.made(box)
    canvas = sphere_in(delivery.known, (box.width, box.height), box)
    place = SpherePlace.of(canvas.px_per_rad, canvas.centre_px, (box.width, box.height)).scaled(made.sizes[0])
    xmp = xmp_packet(options.metadata, sphere_facts(place, delivery.job.heading_deg))
    return Delivered(
        target, _written_and_proved(made, target, replace(options, xmp=xmp), progress, runner, sphere=True)
    )


def _write_cube(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    ball = ball_of(delivery, box)
    first = write_cube(ball, target, options, progress, runner)
    return Delivered(first, (Line(f"six faces of {face_px(ball.px_per_rad)} px, each opened"),))


def _write_look(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    # browsers draw in sRGB
    place = PagePlace(
        ball_of(delivery, box, profile="srgb"), delivery.title or target.stem, north_deg=delivery.job.heading_deg
    )
    write_look_page([place], target, options, progress, runner)
    return Delivered(target, tuple(proved_page(target)))


def _write_zoom(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    made = delivery.made(box)
    scale = made.sizes[0][0] / box.width
    captions = [
        Caption((c.x - box.left) * scale, (c.y - box.top) * scale, c.text)
        for c in (delivery.captions if delivery.job.captions else ())
        if 0 <= c.x - box.left < box.width and 0 <= c.y - box.top < box.height
    ]
    name = delivery.title or target.stem
    write_zoom_page(made, target, options, name=name, captions=captions, progress=progress, runner=runner)
    return Delivered(target, tuple(proved_tiles(folder_of_page(target))))


def _write_tiles(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    told = write_xml_tiles(delivery.made(box), target, options, progress, runner)
    return Delivered(told, tuple(proved_tiles(files_of_xml_tiles(target)[1])))


def _write_iiif(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    made = delivery.made(box)
    folder = write_iiif(made, target, options, progress, runner)
    return Delivered(folder, tuple(proved_iiif(folder, made)))


def _write_print(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    layout = laid_out((box.width, box.height), delivery.job.dpi, delivery.job.on_paper)
    job = replace(delivery.job, long_side_px=max(layout.size_px))
    made = replace(delivery, job=job).made(box)
    if made.sizes[0] != layout.size_px:  # the margin below it, or a side that rounds otherwise
        layout = laid_out(made.sizes[0], delivery.job.dpi, delivery.job.on_paper)
        made = ResizedPicture(made, max(layout.size_px))
        layout = replace(layout, size_px=made.sizes[0])
    from idle_lantern.core.deliver.print_pdf import write_print  # a library that only prints need

    if delivery.job.on_paper.strip:
        small = replace(delivery, job=replace(job, long_side_px=min(SOUGHT_PX, max(made.sizes[0])))).made(box)
        strip = strip_of(made, small, layout, delivery.job.on_paper)
        made, layout = strip.picture, strip.layout
    write_print(made, layout, target, options, title=delivery.title, progress=progress, runner=runner)
    return Delivered(target, tuple(proved_print(target, layout)))


def _write_layers(
    delivery: Delivery, target: Path, box: Rectangle, options: WriteOptions, progress: Progress, runner: Runner | None
) -> Delivered:
    if runner is not None:
        raise InputError("Layers are written by this process alone", remedy="Leave --scheduler away")
    # frames lie at the picture's own size
    made = replace(delivery, job=replace(delivery.job, long_side_px=None)).made(box)
    write_layers(made, box, delivery.frames(), target, options, progress)
    return Delivered(target, tuple(proved_layers(target, made)))


_WRITERS: dict[str, Callable[[Delivery, Path, Rectangle, WriteOptions, Progress, Runner | None], Delivered]] = {
    "sphere": _write_sphere,
    "cube": _write_cube,
    "sphere-page": _write_look,
    "tiles-page": _write_zoom,
    "tiles": _write_tiles,
    "iiif": _write_iiif,
    "print": _write_print,
    "layers": _write_layers,
}
