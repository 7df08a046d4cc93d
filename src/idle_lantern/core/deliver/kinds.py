"""All that a picture is delivered as: files of each format, and what is more than one picture file."""

from __future__ import annotations

from dataclasses import dataclass

from idle_lantern.core.deliver.formats import EXR, FORMATS, JPEG, PNG, TIFF, FileFormat


@dataclass(frozen=True)
class Kind:
    """What is written.

    Attributes
    ----------
    name : as the command line calls it
    title : what it is good for, as people choose it
    endings : of the name that is given, the usual one first, an empty one where it may lack; none where it is a folder
    format : of the file, or of those that are written; None where there are none of their own
    is_sphere : whether it needs a picture that knows its directions
    is_printed : whether it lies on paper
    """

    name: str
    title: str
    endings: tuple[str, ...]
    format: FileFormat | None = None
    is_sphere: bool = False
    is_printed: bool = False

    @property
    def ending(self) -> str:
        """The usual one."""
        return self.endings[0] if self.endings else ""

    @property
    def quality(self) -> bool:
        """Whether its loss is chosen."""
        return self.format is not None and self.format.quality


_OF_FACES = (JPEG, PNG, TIFF, EXR)

SPHERE = Kind("sphere", "Sphere: a JPEG that viewers open as one", JPEG.endings, JPEG, is_sphere=True)
CUBE = Kind(
    "cube", "Cube: the six faces of a sphere", tuple(e for f in _OF_FACES for e in f.endings), JPEG, is_sphere=True
)
SPHERE_PAGE = Kind("sphere-page", "Page to look around in: one file", (".html", ".htm"), JPEG, is_sphere=True)
TILES_PAGE = Kind("tiles-page", "Page to zoom into, with its tiles", (".html", ".htm"), JPEG)
TILES = Kind("tiles", "Tiles and their XML, for a page of your own", (".xml", ""), JPEG)
IIIF = Kind("iiif", "Tiles by IIIF, for a picture server", (), JPEG)
PRINT = Kind("print", "Print: PDF at true size", (".pdf",), JPEG, is_printed=True)
LAYERS = Kind("layers", "Layers: each frame by itself, to go on by hand", (".ora", *TIFF.endings), TIFF)

#: A file of each format, then the others.
KINDS: tuple[Kind, ...] = (
    *(Kind(f.name, f.title, f.endings, f) for f in FORMATS),
    SPHERE, SPHERE_PAGE, TILES_PAGE, PRINT, LAYERS, CUBE, TILES, IIIF,
)  # fmt: skip


def kind_named(name: str) -> Kind:
    """The kind of that name; raises KeyError."""
    return {k.name: k for k in KINDS}[name]


#: What is looked at in each kind of delivery, as it is told before.
_LOOKED_AT = {
    "file": "opened by another reader: size, profile, nine places compared",
    "sphere": "opened by another reader: size, profile, nine places, the sphere recognised",
    "cube": "six files, each opened by another reader and compared",
    "pages": "all tiles there, the first of each level opened",
    "sphere-page": "the tiles inside it counted",
    "print": "opened by another reader: pages to 0.1 mm, profile, resolution",
    "layers": "opened by another reader: each layer there, and the picture as it looks",
}


def planned(kind: str) -> str:
    """What will be looked at once a kind of delivery is written."""
    names = {"tiles": "pages", "iiif": "pages", "tiles-page": "pages"}
    return _LOOKED_AT.get(names.get(kind, kind), _LOOKED_AT["file"])
