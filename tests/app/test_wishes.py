"""F1 finds what people ask for in their own words, or says that there is none."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot
from tests.reference.wishes import WISHES

from idle_lantern.app.actions import ACTIONS
from idle_lantern.app.widgets.action_finder import ActionFinder
from idle_lantern.app.window import Window
from idle_lantern.app.wishes import ALSO, find

#: So many lines of the list are seen at a glance.
_SEEN = 3


@pytest.fixture
def finder(qtbot: QtBot, window: Window) -> ActionFinder:
    made = ActionFinder(lambda a: bool(a.ready(window)), lambda a: a.why_not(window), window.trigger, window)
    qtbot.addWidget(made)
    made.show()
    return made


def test_wishes_are_found(qtbot: QtBot, finder: ActionFinder):
    """At least 19 of 20: an action that would do among the first lines, or the sentence that there is none yet."""
    missed = []
    for words, answers in WISHES:
        finder.search.clear()
        qtbot.keyClicks(finder.search, words)
        shown = [finder.list.item(i).data(Qt.ItemDataRole.UserRole) for i in range(min(_SEEN, finder.list.count()))]
        if not (set(shown) & set(answers) if answers else finder.why.text()):
            missed.append((words, shown, finder.why.text()))
    assert len(WISHES) >= 80
    assert len(missed) <= len(WISHES) / 20, missed


def test_every_word_belongs_to_an_action_that_is_there():
    assert set(ALSO) <= {action.id for action in ACTIONS}


def test_titles_are_found_as_they_are_written():
    for action in ACTIONS:
        assert action in find(action.title).actions[:3], action.title


@pytest.mark.parametrize(("one", "other"), [("stitch", "stitching"), ("ghost", "ghosts"), ("crop", "cropped")])
def test_forms_of_a_word_find_the_same(one: str, other: str):
    assert find(one).actions[0] == find(other).actions[0]


def test_what_is_not_known_says_so(qtbot: QtBot, finder: ActionFinder):
    qtbot.keyClicks(finder.search, "xylophone")
    assert finder.list.count() == 0
    assert "other words" in finder.why.text()
