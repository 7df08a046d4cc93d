"""What people call the things they want: words beside those of the actions, and what there is none of yet.

The searchable list reads it; whoever adds an action adds the words it is asked for by.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from idle_lantern.app.actions import ACTIONS, Action

#: Words by which an action is asked for, beside its title; forms of a word are found by themselves.
ALSO = {
    "outing.new": "begin start project session job create",
    "outing.open": "load project folder session existing",
    "outing.rename": "name title",
    "outing.elsewhere": "move save as copy backup",
    "outing.bring": "import add load open photos images files shots pictures memory card raw",
    "outing.bring_folder": "import add load open photos images directory memory card sd dcim",
    "outing.paste": "clipboard drop drag copied",
    "outing.angles": "yaw pitch table positions print robot export list",
    "outing.card": "pdf printout paper print sheet",
    "outing.save_plan": "export json csv save",
    "outing.bring_plan": "import json csv load",
    "outing.gear": "choose change camera body lens lenses head equipment kit profile database calibrate",
    "outing.scene": "tour evening several",
    "outing.try": "simulate simulator test demo practise rehearse",
    "edit.undo": "back revert cancel mistake take back",
    "edit.redo": "again forward repeat",
    "plan.upright": "portrait landscape vertical horizontal orientation rotate camera",
    "plan.make": "plan",
    "plan.mark": "pin point subject label tag",
    "plan.scout": "snapshot phone telephone preview background reference",
    "plan.drag_ground": "move align background",
    "plan.pupil": "parallax nodal entrance rail calibrate slide offset",
    "plan.blur": "bokeh depth field aperture background",
    "plan.circle": "wide wider 360 degrees round cylinder cylindrical",
    "plan.sphere": "360 180 degrees vr spherical equirectangular tour sphere",
    "go.plan": "overlap how many photos frames rows sunset sunrise sun moon milky way stars polariser polarizer filter time light golden hour blue aperture exposure "
    "depth focal lens tripod head tilt angle memory cost duration location place gps latitude longitude coordinates weather camera slow speed",
    "field.shoot": "take photo capture trigger shutter fire log",
    "field.again": "retake repeat redo",
    "field.missed": "forgot wrong not taken",
    "field.skip": "leave ignore",
    "field.all": "automatic run timelapse sequence",
    "field.watch": "tether tethered live hot folder wifi camera card monitor incoming",
    "field.checks": "list pack safety danger warning tripod",
    "field.tones": "sound beep audio mute loud turn off on silent",
    "field.note": "comment remark text memo log",
    "practice.open": "learn lesson tutorial exercise help train practice",
    "frames.leave_out": "exclude ignore skip reject deselect wrong photo image drop blurry",
    "frames.remove": "delete exclude photo image trash",
    "frames.look": "check inspect sharp blurry blur focus soft quality missing gap hole dust fault",
    "frames.copy": "backup duplicate card safe eject computer disk",
    "frames.develop": "raw brightness bright exposure contrast shadows highlights tone tones curve saturation colour color edit adjust "
    "darker lighter film negative scan",
    "frames.grey": "gray white balance colour color cast temperature warm cool tint neutral kelvin",
    "frames.finding": "problem fault gap",
    "join.run": "stitch merge assemble render combine panorama align create build",
    "join.here": "stitch merge assemble render combine panorama",
    "join.masks": "mask brush erase paint exclude remove retouch",
    "join.treatments": "hdr exposures exposure blend fusion tone mapping merge fuse bracket",
    "join.ties": "control points point align alignment match manual register link",
    "walk.next": "problem fault error double check inspect seam visible line mistake hole gap",
    "walk.before": "problem previous",
    "walk.seams": "seam seams border line blend visible edge",
    "seen.next": "inspect check 100 pixel peep look",
    "walk.blink": "compare flicker difference",
    "walk.take": "other photo image alternative replace swap switch wrong use source",
    "walk.use": "apply accept take keep",
    "walk.sharpest": "sharp blurry best focus",
    "walk.off": "exclude hide photo image disable wrong",
    "walk.place": "select choose point click pick which source shows",
    "walk.hide": "erase remove delete brush retouch mask paint person people tourists object",
    "walk.seam": "seam line blend border drag visible edge",
    "walk.keep": "brush mask paint protect include",
    "walk.figure": "person people man woman child cut twice half whole",
    "mover.next": "ghost ghosts person people moving moved motion car bird walker tourists somebody twice double",
    "mover.once": "ghost person people double twice somebody once duplicate",
    "mover.never": "ghost person people remove delete erase tourists car walker away",
    "mover.always": "clone multiple several repeat sequence action",
    "compose.open": "crop straighten level rotate projection edge edges fill rim gap gaps hole border borders corners aspect ratio format bent "
    "curved lines distortion perspective planet fisheye crooked tilted horizon cut off",
    "compose.projection": "wide wider narrow mirror ball planet fisheye cylindrical spherical flat rectilinear panini mercator bent curved lines distortion perspective "
    "little",
    "compose.turn": "rotate straighten level crooked tilt tilted horizon roll move",
    "compose.line": "straighten level horizon crooked vertical upright guide perspective keystone tilted",
    "compose.centre": "center middle move shift",
    "compose.crop": "trim cut off frame aspect ratio format edges border",
    "compose.levelled": "reset original straighten level",
    "work.cancel": "abort cancel interrupt quit break",
    "picture.fit": "whole all overview zoom",
    "picture.full": "actual pixels pixel size 1:1 original zoom hundred",
    "picture.in": "magnify closer bigger enlarge plus",
    "picture.out": "farther smaller minus",
    "deliver.write": "export save jpeg jpg tiff tif exr png output share send upload post online web website page mail smaller resize size "
    "small resolution reduce tripod nadir patch remove cover head legs stand profile srgb colour bigger file done publish",
    "deliver.look": "sphere 360 vr virtual tour viewer look around turn full circle immersive",
    "deliver.several": "presets batch export several sizes web print archive targets many formats",
    "outing.tour": "tour virtual walk through rooms several spheres step from one to the next link hotspot plan map house",
    "outing.queue": "batch queue season overnight all folders at once automatic unattended several stitch",
    "deliver.signed": "author copyright credit name owner rights license photographer metadata exif iptc",
    "go.deliver": "export save share resize smaller tripod nadir patch logo web",
    "go.join": "hdr bracket brackets exposures repeats stack stitch merge raw lens",
    "go.frames": "develop check photos import sort",
    "go.field": "shoot shooting outside camera take log",
    "go.logbook": "history list recent outings projects past archive statistics delete trash",
    "go.finish": "edit adjust develop retouch process tone colour color grade",
    "finish.add": "sharpen sharpening sharper clarity detail unsharp noise denoise grain noisy contrast curve curves levels saturation "
    "vibrance exposure brightness brighter darker shadows highlights black white monochrome tint toning sepia hue sky filter dehaze",
    "finish.grey": "white balance warm warmer cool cooler temperature cast picker eyedropper neutral",
    "finish.heal": "clone heal stamp spot spots patch remove dust litter post wire object erase retouch",
    "finish.next_place": "healed spots list",
    "finish.source": "clone stamp source heal",
    "finish.drop_place": "delete spot heal undo",
    "finish.before": "original preview toggle after",
    "finish.split": "before after original slider",
    "compose.straight": "bent curved line straighten edge wall horizon building distortion",
    "compose.round": "face stretched egg wheel globe distorted rim perspective wide",
    "finish.single": "worth it one shot single frame wide lens against compare crispness bokeh",
    "finish.beside": "before after original two",
    "finish.cut": "clipping clipped blown burnt histogram warning zebra",
    "finish.paint": "brush mask local parts selective dodge burn area adjust",
    "finish.rub": "brush eraser mask remove",
    "finish.gradient": "darker sky graduated filter mask local parts selective dodge burn",
    "finish.round": "radial vignette spotlight mask local parts circle",
    "finish.mask": "overlay area selection",
    "finish.retouched": "import layers back external editor open again flattened round trip edited elsewhere clone",
    "finish.use_recipe": "preset presets template load style",
    "finish.take_recipe": "copy paste settings steps sync same look",
    "finish.save_recipe": "preset presets template export style keep",
    "finish.switch": "disable enable mute toggle",
    "finish.remove": "delete undo clear",
    "finish.reset": "reset default original clear",
    "finish.earlier": "order reorder up",
    "finish.later": "order reorder down",
    "look.dark": "mode theme black night",
    "look.light": "mode theme white bright day",
    "look.field": "sun sunlight outdoor outside night vision high contrast glare",
    "look.larger": "font bigger zoom size letters read small tiny",
    "look.smaller": "font size letters",
    "look.profile": "monitor display calibration icc colour color management",
    "look.srgb": "monitor display colour reset",
    "picture.alone": "full screen fullscreen big large show presentation only hide everything",
    "panel.fold": "hide close side panel sidebar room space words",
    "map.fold": "hide close minimap overview strip small room space",
    "map.circle": "360 degrees round all",
    "plan.find": "search where setting parameter option value",
    "look.hinge": "layout reset splitter divider",
    "map.form": "globe sphere polar zenith nadir view",
    "map.in": "magnify closer",
    "map.out": "farther",
    "map.all": "whole fit reset",
    "app.menu": "keyboard",
    "app.find": "search help command",
    "app.about": "version licence license info credits",
    "app.quit": "exit close end",
}


@dataclass(frozen=True)
class NotYet:
    """Something that is asked for and not there: the words for it, and what to do instead."""

    words: str
    sentence: str


NOT_YET = (
    NotYet(
        "print printing poster paper printer",
        "It does not print yet. Deliver writes the file with its dots per inch; Plan tells how large a print will be sharp.",
    ),
    NotYet(
        "layers layer blend",
        "Frames are not written as layers yet. Deliver writes one picture.",
    ),
    NotYet(
        "virtual tour hotspot hotspots viewer embed html website",
        "There are no tours yet. Deliver writes a sphere that viewers open, with its projection told in the file.",
    ),
    NotYet(
        "focus stack stacking stacked depth",
        "Focus stacks are not merged yet; frames taken again at a place are averaged or the sharpest is used.",
    ),
    NotYet(
        "vignette border frame watermark text signature logo caption",
        "Frames, text and watermarks are not drawn on a picture.",
    ),
    NotYet("timelapse video movie film clip animation", "Films are not made here."),
    NotYet(
        "upscale super resolution enlarge ai generative",
        "Pictures are not enlarged; the plan tells which lens gives more pixels.",
    ),
)

#: Words of a wish that say nothing of what is wanted.
_IDLE = frozenset(
    re.findall(
        r"\w+",
        "a an the my of to in on at for from by with and or is it its this that these how do does can i want need make let get set "
        "picture panorama please where what as be here which used too find something photo photos frame frames",
    )
)
#: What a word of the wish counts more where it stands in a title as it was written.
_AS_WRITTEN = 0.1
_ENDINGS = ("ing", "ers", "ed", "er", "es", "s", "e", "y")


def stem(word: str) -> str:
    """A word without its ending, so that forms of it are alike: stitching and stitch, ghosts and ghost."""
    for ending in _ENDINGS:
        if word.endswith(ending) and len(word) - len(ending) >= 3:
            found = word[: -len(ending)]
            return found[:-1] if len(found) > 3 and found[-1] == found[-2] and found[-1] not in "ls" else found
    return word


def _words(text: str) -> list[str]:
    return [w for w in re.split(r"[^\w:]+", text.lower()) if w]


def _asked(text: str) -> list[str]:
    """The words of a wish that say something; all of them where none does."""
    words = _words(text)
    return [w for w in words if w not in _IDLE] or words


@dataclass(frozen=True)
class Found:
    """What answers a wish: actions, the likeliest first, and the sentence where there is none yet."""

    actions: tuple[Action, ...]
    sentence: str = ""


def _score(word: str, title: Iterable[str], also: Iterable[str], rest: Iterable[str]) -> float:
    """How well a word is answered, 0 where it is not: in the title it counts most, a form of a word or its beginning less."""
    best = 0.0
    for weight, known in ((3.0, set(title)), (2.0, set(also)), (1.0, set(rest))):
        if word in known:
            best = max(best, weight)
        elif stem(word) in {stem(k) for k in known}:
            best = max(best, weight - 0.2)
        elif len(word) >= 2 and any(k.startswith(word) for k in known):
            best = max(best, weight - 0.5)
    return best


def find(text: str) -> Found:
    """The actions that a wish in a person's own words asks for, or the sentence that there is none.

    Where no action answers all words, those that answer most are given.
    """
    wanted = _asked(text)
    if not wanted:
        return Found(ACTIONS)
    best: list[tuple[float, int, Action]] = []
    for least in range(len(wanted), 0, -1):
        for at, action in enumerate(ACTIONS):
            title, also = _words(action.title), _words(ALSO.get(action.id, ""))
            rest = [*_words(action.menu), "in", *_words(action.stage)]
            parts = [s for w in wanted if (s := _score(w, title, also, rest))]
            if len(parts) >= least:
                as_written = sum(w in title for w in _words(text))  # also of the words that say little
                best.append((sum(parts) + _AS_WRITTEN * as_written, -at, action))
        if best:
            break
    best.sort(key=lambda row: row[:2], reverse=True)
    actions = tuple(action for _s, _at, action in best)
    missing = max(NOT_YET, key=lambda n: sum(_holds(n, w) for w in wanted))
    share = sum(_holds(missing, w) for w in wanted) / len(wanted)
    answered = best[0][0] / len(wanted) if best else 0.0  # of whole words in a title 3
    if (share == 1.0 and answered < 2.7) or (share > 0 and not actions):
        return Found(actions, missing.sentence)
    return Found(actions)


def _holds(missing: NotYet, word: str) -> bool:
    return stem(word) in {stem(w) for w in missing.words.split()}
