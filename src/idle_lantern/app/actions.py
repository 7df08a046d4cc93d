"""The one table of actions: titles, keys, where they apply, when they can run, what they do.

Menus, the searchable list, shortcuts and the key list in the guide all read it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

#: The window; it lies above this table and is not imported by it.
Window = Any

STAGES = ("plan", "field", "frames", "join", "finish", "deliver", "logbook")


@dataclass(frozen=True)
class Action:
    """One thing the person can do.

    ``stage`` is empty for what applies everywhere; ``ready`` says whether it can run now, ``needs`` what is missing
    where it cannot.
    """

    id: str
    title: str
    menu: str
    keys: str
    run: Callable[[Window], object]
    stage: str = ""
    ready: Callable[[Window], bool] = lambda _w: True
    needs: str | Callable[[Window], str] = ""

    def why_not(self, window: Window) -> str:
        """Why it cannot run now, in a sentence."""
        told = self.needs if isinstance(self.needs, str) else self.needs(window)
        return told or f"{self.title.rstrip(' …')}: not possible now."


def _go(stage: str) -> Callable[[Window], object]:
    return lambda w: w.go(stage)


def _under_join(
    part: str,
    ready: Callable[[Window], bool],
    needs: str | Callable[[Window], str],
    *rows: tuple[str, str, str, Callable[[Window], object]],
) -> tuple[Action, ...]:
    """Actions of the Join stage that can run under one condition; a row is name, title, keys, what it does."""
    menu = "Compose" if part == "compose" else "Mend"
    return tuple(
        Action(f"{part}.{name}", title, menu, keys, run, "join", ready, needs) for name, title, keys, run in rows
    )


#: What all that needs a joined picture says where there is none.
_OF_A_JOINED_PICTURE: dict[str, Any] = {
    "ready": lambda w: w.state.joined is not None,
    "needs": "Nothing is joined yet. Join the frames first.",
}


def _under_finish(
    ready: Callable[[Window], bool], needs: str, *rows: tuple[str, str, str, Callable[[Window], object]]
) -> tuple[Action, ...]:
    """Actions of the Finish stage that can run under one condition; a row is name, title, keys, what it does."""
    return tuple(
        Action(f"finish.{name}", title, "Finish", keys, run, "finish", ready, needs) for name, title, keys, run in rows
    )


ACTIONS: tuple[Action, ...] = (
    Action("outing.new", "New outing …", "Outing", "Ctrl+N", lambda w: w.outings.new()),
    Action(
        "outing.try",
        "Try this plan in the invented place",
        "Outing",
        "",
        lambda w: w.outings.try_plan(),
        ready=lambda w: w.state.outing.shows_plan and w.state.outing.origin != "simulated",
        needs="Only a plan that is not simulated already can be tried: begin a new outing.",
    ),
    Action("outing.open", "Open an outing folder …", "Outing", "Ctrl+O", lambda w: w.outings.ask_open()),
    Action(
        "outing.scene",
        "Plan a scene of the evening as an outing …",
        "Outing",
        "",
        lambda w: w.outings.ask_scene(),
        ready=lambda w: bool(w.state.outing.brief.site.stops),
        needs="The evening has no other scene yet: add one under Light.",
    ),
    Action("outing.rename", "Rename the outing …", "Outing", "", lambda w: w.outings.rename()),
    Action(
        "outing.elsewhere",
        "Keep the outing in another folder …",
        "Outing",
        "",
        lambda w: w.outings.save_elsewhere(),
        ready=lambda w: w.state.folder is not None,
        needs="No outing is open.",
    ),
    Action("outing.bring", "Bring in pictures …", "Outing", "Ctrl+I", lambda w: w.frames_stage.bringing.ask_files()),
    Action(
        "outing.bring_folder",
        "Bring in a folder of pictures …",
        "Outing",
        "Ctrl+Shift+I",
        lambda w: w.frames_stage.bringing.ask_folder(),
    ),
    Action("outing.queue", "Join and deliver many folders …", "Outing", "", lambda w: w.open_queue()),
    Action("outing.tour", "Make a tour of spheres …", "Outing", "", lambda w: w.open_tour()),
    Action("outing.paste", "Bring in the files that were copied", "Outing", "Ctrl+V", lambda w: w.paste()),
    Action("outing.angles", "Save the angle list …", "Outing", "", lambda w: w.plan_stage.commands.save_angles()),
    Action("outing.card", "Save the field card …", "Outing", "Ctrl+K", lambda w: w.plan_stage.commands.save_card()),
    Action("outing.save_plan", "Save the plan as a file …", "Outing", "", lambda w: w.plan_stage.commands.save_plan()),
    Action(
        "outing.bring_plan",
        "Bring in a plan or a frame list …",
        "Outing",
        "",
        lambda w: w.plan_stage.commands.ask_plan(),
    ),
    Action("outing.gear", "Gear library …", "Outing", "Ctrl+G", lambda w: w.plan_stage.commands.open_gear()),
    Action("app.quit", "Quit", "Outing", "Ctrl+Q", lambda w: w.close()),
    Action(
        "edit.undo",
        "Undo",
        "Edit",
        "Ctrl+Z",
        lambda w: w.undo(),
        ready=lambda w: bool(w.state.history.undo_title),
        needs="There is nothing to undo.",
    ),
    Action(
        "edit.redo",
        "Redo",
        "Edit",
        "Ctrl+Shift+Z",
        lambda w: w.redo(),
        ready=lambda w: bool(w.state.history.redo_title),
        needs="There is nothing to redo.",
    ),
    Action(
        "plan.upright",
        "Turn the camera upright or sideways",
        "Edit",
        "U",
        lambda w: w.plan_stage.commands.turn_camera(),
        "plan",
    ),
    Action(
        "plan.make",
        "Make a plan for these photographs",
        "Edit",
        "",
        lambda w: w.plan_stage.make_plan(),
        "plan",
        lambda w: not w.state.outing.shows_plan,
        "This outing has a plan already.",
    ),
    Action("plan.find", "Find a field of the plan", "Edit", "Ctrl+F", lambda w: w.plan_stage.search.ask(), "plan"),
    Action("plan.mark", "Mark a place on the map …", "Edit", "M", lambda w: w.map.ask_menu(), "plan"),
    Action(
        "plan.scout",
        "Bring in a scouting picture …",
        "Edit",
        "Ctrl+Shift+S",
        lambda w: w.plan_stage.commands.scouting.ask_pictures(),
        "plan",
        lambda w: w.state.folder is not None,
        "No outing is open.",
    ),
    Action(
        "plan.drag_ground",
        "Drag the scouting picture, or no longer",
        "Edit",
        "G",
        lambda w: w.toggle_drag_ground(),
        "plan",
        lambda w: bool(w.state.outing.scouts) or w.map.drags_ground,
        "There is no scouting picture: bring one in first.",
    ),
    Action(
        "plan.pupil",
        "Measure the no-parallax point …",
        "Edit",
        "",
        lambda w: w.plan_stage.commands.measure_pupil(),
        "plan",
    ),
    Action("plan.blur", "Preview the blur …", "Edit", "", lambda w: w.plan_stage.commands.preview_blur(), "plan"),
    Action("plan.circle", "Plan the full circle", "Edit", "C", lambda w: w.plan_stage.commands.full_circle(), "plan"),
    Action("plan.sphere", "Plan the full sphere", "Edit", "B", lambda w: w.plan_stage.commands.full_sphere(), "plan"),
    Action(
        "field.shoot",
        "Shoot this frame, or log that you shot it",
        "Shoot",
        "Space",
        lambda w: w.field_stage.shoot(),
        "field",
        lambda w: w.field_stage.can_shoot(),
        needs="No frame is left to shoot, the camera still works, or a watched folder logs what arrives by itself.",
    ),
    Action(
        "field.again",
        "Shoot the last frame again, or log that you did",
        "Shoot",
        "A",
        lambda w: w.field_stage.again(),
        "field",
        lambda w: w.field_stage.can_again(),
        needs="Nothing was shot yet, the camera still works, or a watched folder logs what arrives by itself.",
    ),
    Action(
        "field.missed",
        "The frame logged last was missed",
        "Shoot",
        "X",
        lambda w: w.field_stage.missed(),
        "field",
        lambda w: w.field_stage.can_miss(),
        needs="No frame was logged by hand, or a watched folder logs what arrives by itself.",
    ),
    Action("field.skip", "Skip this frame, or take it back", "Shoot", "S", lambda w: w.field_stage.skip(), "field"),
    Action("field.back", "One frame back", "Shoot", "D", lambda w: w.field_stage.step(-1), "field"),
    Action("field.next", "One frame on", "Shoot", "F", lambda w: w.field_stage.step(1), "field"),
    Action(
        "field.all",
        "Shoot all that is missing",
        "Shoot",
        "Shift+Space",
        lambda w: w.field_stage.shoot_all(),
        "field",
        lambda w: w.field_stage.can_shoot_all(),
        needs="Only the simulated camera shoots by itself, while a frame is left: try the plan in the invented place.",
    ),
    Action(
        "field.watch",
        "Watch a folder that the camera writes into, or no longer",
        "Shoot",
        "W",
        lambda w: w.field_stage.watching.toggle(),
        "field",
        lambda w: w.state.folder is not None and w.state.outing.shows_plan,
        "Frames that arrive are judged by a plan, and these photographs have none: make one under Plan.",
    ),
    Action("field.checks", "Check list and cautions …", "Shoot", "H", lambda w: w.field_stage.open_checks(), "field"),
    *(
        Action(
            f"field.aim_{name}",
            f"By hand: turn the camera {words}",
            "Shoot",
            keys,
            lambda w, by=by: w.field_stage.hand.turn(*by),  # type: ignore[misc]
            "field",
            lambda w: w.field_stage.hand.active,
            "Only a camera that is held by hand is turned so: choose that under Support.",
        )
        for name, words, keys, by in (
            ("left", "left", "J", (-1.0, 0.0)),
            ("right", "right", "L", (1.0, 0.0)),
            ("up", "up", "I", (0.0, 1.0)),
            ("down", "down", "K", (0.0, -1.0)),
        )
    ),
    Action(
        "field.tones",
        "Sound for each frame that arrives, on or off",
        "Shoot",
        "",
        lambda w: w.field_stage.watching.toggle_tones(),
    ),
    Action("practice.open", "Practise …", "Shoot", "Ctrl+L", lambda w: w.plan_stage.commands.practise()),
    Action("field.note", "Write a note", "Shoot", "N", lambda w: w.field_stage.write_note(), "field"),
    Action(
        "frames.leave_out",
        "Leave the frame out of the join, or put it back",
        "Edit",
        "X",
        lambda w: w.frames_stage.toggle_left_out(),
        "frames",
    ),
    Action(
        "frames.remove",
        "Remove the frame from the outing",
        "Edit",
        "Delete",
        lambda w: w.frames_stage.remove(),
        "frames",
    ),
    Action(
        "frames.look",
        "Look at every frame",
        "Shoot",
        "L",
        lambda w: w.frames_stage.findings.look(),
        "frames",
    ),
    Action(
        "frames.copy", "Copy frames into the outing", "Shoot", "", lambda w: w.frames_stage.bringing.copy_in(), "frames"
    ),
    Action(
        "frames.develop", "Develop all frames alike", "Edit", "V", lambda w: w.frames_stage.toggle_develop(), "frames"
    ),
    Action(
        "frames.grey",
        "Pick a grey for the white balance",
        "Edit",
        "G",
        lambda w: w.frames_stage.development.toggle_pick(),
        "frames",
        lambda w: w.frames_stage.view.source is not None,
        needs="Choose a frame first.",
    ),
    Action(
        "frames.finding", "Show the next finding", "Shoot", "N", lambda w: w.frames_stage.findings.list.step(), "frames"
    ),
    Action(
        "join.run",
        "Join the frames",
        "Join",
        "Ctrl+J",
        lambda w: w.join_stage.run_join(),
        ready=lambda w: w.join_stage.can_join(),
        needs=lambda w: w.join_stage.cannot_join(),
    ),
    Action(
        "join.here",
        "Open Join and join the frames",
        "Join",
        "",
        lambda w: w.join_stage.run_join(),
        "join",
    ),
    Action(
        "join.masks",
        "Hide or keep parts of frames",
        "Join",
        "Ctrl+H",
        lambda w: w.join_stage.open_masks(),
        ready=lambda w: w.join_stage.can_mask(),
        needs="There are no frames to paint on. Shoot some, or bring pictures in under Frames.",
    ),
    Action(
        "join.treatments",
        "Compare what becomes of brackets: merged, fused, the middle one",
        "Join",
        "",
        lambda w: w.join_stage.compare_treatments(),
        "join",
        lambda w: any(g.kind == "bracket" for g in w.state.outing.groups),
        "There are no brackets among these frames.",
    ),
    Action(
        "join.ties",
        "Tie frames by points set by hand",
        "Join",
        "Ctrl+T",
        lambda w: w.join_stage.open_ties(),
        ready=lambda w: len(w.state.outing.frames_to_join()) >= 2,
        needs="Tying needs two frames at least. Shoot some, or bring pictures in under Frames.",
    ),
    *_under_join(
        "walk",
        lambda w: w.join_stage.walk.can_walk(),
        "There is no place to look at: join first.",
        ("next", "Next suspicious place", "N", lambda w: w.join_stage.walk.step()),
        ("before", "Suspicious place before", "Shift+N", lambda w: w.join_stage.walk.step(-1)),
    ),
    *_under_join(
        "walk",
        lambda w: w.state.joined is not None,
        "There is no picture yet: join first.",
        ("seams", "Draw the seams, or not", "S", lambda w: w.join_stage.walk.toggle_seams()),
    ),
    *_under_join(
        "seen",
        lambda w: w.join_stage.seen.can_walk(),
        "There is no picture yet: join first.",
        ("next", "Next part that was not looked at, at 100 %", "PgDown", lambda w: w.join_stage.seen.step()),
    ),
    *_under_join(
        "walk",
        lambda w: w.join_stage.walk.has_stop(),
        "There is no place to look at: go to one with N, or click one after W.",
        ("good", "Call this place good", "G", lambda w: w.join_stage.walk.say("good")),
        ("mend", "Mark this place to be mended", "M", lambda w: w.join_stage.walk.say("mend")),
        ("later", "Leave this place for later", "L", lambda w: w.join_stage.walk.say("later")),
        ("blink", "Blink the frames of this place", "B", lambda w: w.join_stage.walk.toggle_blink()),
        ("take", "Try the next frame at this place", "T", lambda w: w.join_stage.walk.try_next()),
        ("sharpest", "Try the sharpest frame at this place", "Shift+T", lambda w: w.join_stage.walk.try_sharpest()),
        ("off", "Switch the frame of this place off", "X", lambda w: w.join_stage.walk.switch_off()),
    ),
    *_under_join(
        "walk",
        lambda w: w.join_stage.walk.can_use(),
        "No frame is being tried at this place: press T.",
        ("use", "Use the frame that is tried here", "U", lambda w: w.join_stage.walk.use()),
    ),
    *_under_join(
        "walk",
        lambda w: w.join_stage.walk.hands.can_paint(),
        lambda w: w.join_stage.walk.hands.needs(),
        ("place", "Choose a place by a click", "W", lambda w: w.join_stage.walk.hands.use("place")),
        ("hide", "Hide by brush on the picture", "D", lambda w: w.join_stage.walk.hands.use("hide")),
        ("seam", "Move a seam by dragging", "V", lambda w: w.join_stage.walk.hands.use("seam")),
        ("keep", "Let one frame show a thing, by brush", "A", lambda w: w.join_stage.walk.hands.use("keep")),
        (
            "figure",
            "Let one frame show a whole figure, by a click",
            "F",
            lambda w: w.join_stage.walk.hands.use("figure"),
        ),
    ),
    *_under_join(
        "mover",
        lambda w: w.join_stage.ghosts.can_step(),
        "Nothing moved in this picture, or there is none yet.",
        ("next", "Next thing that moved", "Y", lambda w: w.join_stage.ghosts.step()),
    ),
    *_under_join(
        "mover",
        lambda w: w.join_stage.ghosts.has_place(),
        "That belongs to a moving thing: go to one with Y.",
        ("once", "Show the moving thing once, here", "I", lambda w: w.join_stage.ghosts.show_as("once")),
        ("never", "Show the moving thing nowhere", "O", lambda w: w.join_stage.ghosts.show_as("never")),
        ("always", "Show the moving thing everywhere", "Shift+O", lambda w: w.join_stage.ghosts.show_as("always")),
    ),
    *_under_join(
        "compose",
        lambda w: w.join_stage.compose.active or w.join_stage.compose.can_compose(),
        lambda w: w.join_stage.compose.needs(),
        ("open", "Compose the picture: projection, level, crop, rim", "C", lambda w: w.join_stage.toggle_compose()),
    ),
    *_under_join(
        "compose",
        lambda w: w.join_stage.compose.active,
        "That belongs to composing: press C under Join first.",
        ("projection", "Next projection", "P", lambda w: w.join_stage.compose.next_projection()),
        ("turn", "Turn the picture by hand", "R", lambda w: w.join_stage.compose.hand.use_tool("turn")),
        ("line", "Draw along what is upright or level", "E", lambda w: w.join_stage.compose.hand.use_tool("line")),
        (
            "straight",
            "Draw what is straight straight",
            "Shift+E",
            lambda w: w.join_stage.compose.hand.use_tool("straight"),
        ),
        ("round", "Keep a round thing round", "Shift+R", lambda w: w.join_stage.compose.hand.use_tool("round")),
        ("centre", "Put a place in the middle", "Q", lambda w: w.join_stage.compose.hand.use_tool("centre")),
        ("crop", "Crop by hand", "K", lambda w: w.join_stage.compose.hand.use_tool("crop")),
        ("levelled", "Level as the join did", "", lambda w: w.join_stage.compose.as_levelled()),
    ),
    *_under_finish(
        lambda w: w.state.joined is not None,
        "There is no picture to finish yet: join the frames first.",
        ("add", "Add a step …", "A", lambda w: w.finish_stage.ask_step()),
        ("grey", "Pick what shall be grey", "G", lambda w: w.finish_stage.hands.use("grey")),
        ("heal", "Heal: cover what shall go", "H", lambda w: w.finish_stage.hands.use("heal")),
        ("before", "Show it as joined, or finished", "B", lambda w: w.finish_stage.compare("before")),
        ("split", "Compare across a line", "S", lambda w: w.finish_stage.compare("split")),
        ("beside", "Compare side by side", "D", lambda w: w.finish_stage.compare("beside")),
        ("single", "Compare with one wide frame …", "I", lambda w: w.finish_stage.ask_single()),
        ("cut", "Show what is cut to white or black", "O", lambda w: w.finish_stage.toggle_cut()),
    ),
    *_under_finish(
        lambda w: w.finish_stage.has_step(),
        "No step is in hand: add one with A.",
        ("switch", "Switch the step off or on", "X", lambda w: w.finish_stage.panel.switch()),
        ("remove", "Take the step away", "Delete", lambda w: w.finish_stage.panel.remove()),
        ("reset", "Bring the step's figures back", "", lambda w: w.finish_stage.panel.reset()),
        ("paint", "Paint where the step works", "P", lambda w: w.finish_stage.hands.use("paint")),
        ("rub", "Erase where the step works", "E", lambda w: w.finish_stage.hands.use("rub")),
        ("gradient", "Draw a gradient for the step", "L", lambda w: w.finish_stage.hands.use("gradient")),
        ("round", "Draw a round part for the step", "R", lambda w: w.finish_stage.hands.use("round")),
    ),
    *_under_finish(
        lambda w: w.finish_stage.has_places(),
        "Nothing is healed yet: press H and paint over what shall go.",
        ("next_place", "Next healed place", "N", lambda w: w.finish_stage.step_place()),
        ("source", "Choose the ground that covers the place", "W", lambda w: w.finish_stage.hands.use("source")),
        ("drop_place", "Leave the healed place as joined", "Backspace", lambda w: w.finish_stage.drop_place()),
    ),
    *_under_finish(
        lambda w: w.finish_stage.has_mask(),
        "The step works on all of the picture: paint a part with P, or choose one under Works on.",
        ("mask", "Show where the step works", "M", lambda w: w.finish_stage.toggle_mask()),
    ),
    *_under_finish(
        lambda w: w.finish_stage.can_move(-1),
        "There is no step before this one.",
        ("earlier", "Do the step earlier", "U", lambda w: w.finish_stage.panel.shift(-1)),
    ),
    *_under_finish(
        lambda w: w.finish_stage.can_move(1),
        "There is no step after this one.",
        ("later", "Do the step later", "J", lambda w: w.finish_stage.panel.shift(1)),
    ),
    *_under_finish(
        lambda w: w.state.folder is not None,
        "No outing is open.",
        ("use_recipe", "Finish by a recipe from a file …", "", lambda w: w.finish_stage.use_recipe()),
        ("take_recipe", "Finish as another outing …", "", lambda w: w.finish_stage.take_recipe()),
    ),
    *_under_finish(
        lambda w: bool(w.state.outing.finish.steps),
        "The recipe has no step yet: add one with A.",
        ("save_recipe", "Save the recipe as a file …", "", lambda w: w.finish_stage.save_recipe()),
    ),
    Action(
        "work.cancel",
        "Stop the work that runs",
        "Join",
        "Ctrl+.",
        lambda w: w.cancel_work(),
        ready=lambda w: w.tasks.shown is not None,
        needs="No work runs that could be stopped.",
    ),
    Action(
        "deliver.write",
        "Write the picture …",
        "Deliver",
        "Ctrl+E",
        lambda w: w.deliver_stage.ask_write(),
        **_OF_A_JOINED_PICTURE,
    ),
    Action(
        "deliver.look",
        "Look around in it, or lay it flat",
        "Deliver",
        "L",
        lambda w: w.deliver_stage.looking.toggle(),
        "deliver",
        **_OF_A_JOINED_PICTURE,
    ),
    Action(
        "deliver.several",
        "Write by several presets …",
        "Deliver",
        "Ctrl+Shift+E",
        lambda w: w.deliver_stage.write_several(),
        **_OF_A_JOINED_PICTURE,
    ),
    Action(
        "finish.retouched",
        "Take in a retouched picture …",
        "Deliver",
        "",
        lambda w: w.finish_stage.ask_retouched(),
        **_OF_A_JOINED_PICTURE,
    ),
    Action("deliver.signed", "Whose pictures they are …", "Deliver", "", lambda w: w.ask_whose()),
    Action("picture.fit", "Show the whole picture", "View", "0", lambda w: w.picture_view().fit()),
    Action("picture.full", "Show 100 %", "View", "1", lambda w: w.picture_view().show_full()),
    Action("picture.in", "Zoom in", "View", "+", lambda w: w.picture_view().zoom_by(1.5)),
    Action("picture.out", "Zoom out", "View", "-", lambda w: w.picture_view().zoom_by(1 / 1.5)),
    Action("look.dark", "Dark look", "View", "", lambda w: w.set_look("dark")),
    Action("look.light", "Light look", "View", "", lambda w: w.set_look("light")),
    Action("look.field", "Field look: bright and large, or back", "View", "F9", lambda w: w.toggle_field_look()),
    Action("look.larger", "Larger text", "View", "Ctrl+Shift++", lambda w: w.set_text_size(1)),
    Action("look.smaller", "Smaller text", "View", "Ctrl+Shift+-", lambda w: w.set_text_size(-1)),
    Action("look.profile", "Profile of the screen …", "View", "", lambda w: w.ask_screen_profile()),
    Action(
        "look.srgb",
        "The screen is sRGB",
        "View",
        "",
        lambda w: w.set_screen_profile(""),
        ready=lambda w: bool(w.context.settings.screen_profile),
        needs="It is taken as sRGB already.",
    ),
    Action("map.form", "Map: unrolled, globe, or zenith and nadir", "View", "F4", lambda w: w.map.next_form()),
    Action("map.in", "Map: zoom in", "View", "Ctrl++", lambda w: w.map.zoom_by(1.25)),
    Action("map.out", "Map: zoom out", "View", "Ctrl+-", lambda w: w.map.zoom_by(1 / 1.25)),
    Action("map.all", "Map: show all", "View", "Ctrl+0", lambda w: w.map.show_all()),
    Action("map.circle", "Map: the whole circle, or what is planned", "View", "F5", lambda w: w.map.toggle_circle()),
    Action("map.fold", "Map: fold to a strip, or open", "View", "F6", lambda w: w.placing.fold_map()),
    Action("look.hinge", "Let the map fit by itself", "View", "", lambda w: w.placing.fit_by_itself()),
    Action("panel.fold", "Fold the panel beside the picture, or open it", "View", "F7", lambda w: w.fold_panel()),
    Action(
        "picture.alone",
        "The picture alone on the whole screen, or the window",
        "View",
        "F11",
        lambda w: w.toggle_full(),
    ),
    *(Action(f"go.{s}", f"Go to {s.capitalize()}", "Go", f"Alt+{i}", _go(s)) for i, s in enumerate(STAGES, 1)),
    Action("plan.next", "Next page of the plan", "Go", "Ctrl+PgDown", lambda w: w.plan_stage.next_topic(1), "plan"),
    Action("plan.back", "Page before", "Go", "Ctrl+PgUp", lambda w: w.plan_stage.next_topic(-1), "plan"),
    Action("app.menu", "Open the menus", "Go", "F10", lambda w: w.menus.open_first()),
    Action("app.find", "Find an action …", "Go", "F1", lambda w: w.find_action()),
    Action("app.about", "About Idle Lantern", "Go", "", lambda w: w.about()),
)


def by_id(action_id: str) -> Action:
    """The action of that id."""
    return next(a for a in ACTIONS if a.id == action_id)


def shown_keys(action: Action) -> str:
    """Keys as told to people."""
    return action.keys.replace("+", " + ") if len(action.keys) > 1 else action.keys
