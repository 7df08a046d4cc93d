"""The words of the window against the table of words: each is known, each is told on its term, none that was replaced is left."""

from __future__ import annotations

import re
from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QLabel, QPushButton, QRadioButton, QWidget
from pytestqt.qtbot import QtBot

from idle_lantern.app import words
from idle_lantern.app.actions import ACTIONS
from idle_lantern.app.widgets.stage_tab import StageTab
from idle_lantern.app.window import Window
from idle_lantern.core.geometry.lenses import MODELS
from idle_lantern.core.geometry.projections import PROJECTIONS
from idle_lantern.core.plan.remedies import REMEDIES


def _terms(page: QWidget) -> set[str]:
    """Names of fields and figures, headings, buttons; words with figures in them are sentences of the moment."""
    labels = [
        w.text() for w in page.findChildren(QLabel) if w.property("form") == "name" or w.property("role") == "head"
    ]
    buttons = [w.text() for w in page.findChildren((QPushButton, QCheckBox, QRadioButton))]
    cut = {re.split(r" {3}\[", text)[0].strip().rstrip(" …") for text in (*labels, *buttons)}
    return {term for term in cut if term and not re.search(r"\d|\.jpg|\.tif", term)}


def test_every_term_on_the_screen_stands_in_the_table_with_its_meaning(
    qtbot: QtBot, joined: Window, settled: Callable[[Window], None]
):
    own = {joined.frames_stage.title.text(), joined.frames_stage.summary.text(), *(r.title for r in REMEDIES.values())}
    unknown: dict[str, set[str]] = {}
    for stage, page in joined.pages.items():
        joined.go(stage)
        settled(joined)
        left = _terms(page) - set(words.meanings()) - own
        if left:
            unknown[stage] = left
    assert unknown == {}
    assert all(len(meaning) > 5 and meaning.endswith(".") for meaning in words.meanings().values())


def test_a_term_tells_what_it_means_where_the_pointer_rests(qtbot: QtBot, window: Window):
    named = [w for w in window.findChildren(QLabel) if w.property("form") == "name"]
    assert len(named) > 100
    for title in named:
        if title.text() and not re.search(r"\d", title.text()):
            assert title.toolTip() == words.meaning(title.text()) != "", title.text()


def test_words_that_were_replaced_are_gone(qtbot: QtBot, window: Window):
    old = words.replaced()
    assert old["Mean miss"] == "Mean error"
    shown = {t for page in window.pages.values() for t in _terms(page)}
    assert shown & set(old) - set(words.meanings()) == set()
    titles = " ".join(action.title for action in ACTIONS)
    for phrase in ("Take turns by hand back", "Tones for frames", "Rub out", "Backwards from"):
        assert phrase not in titles


def test_kinds_of_lenses_and_projections_have_one_word_each(qtbot: QtBot, window: Window):
    assert set(words.PROJECTIONS) == set(PROJECTIONS)
    assert set(words.LENSES) == set(MODELS)
    shown = [window.join_stage.projection.itemText(i) for i in range(window.join_stage.projection.count())]
    assert shown == ["As it suits", *words.PROJECTIONS.values()]
    foreseen = window.plan_stage.foreseen.projection
    assert {foreseen.itemText(i) for i in range(foreseen.count())} == set(shown)


def test_tabs_and_menus_name_each_stage_alike(qtbot: QtBot, window: Window):
    for stage, tab in window.tabs.items():
        assert isinstance(tab, StageTab)
        assert tab.accessibleName() == stage.capitalize()
        assert any(action.title == f"Go to {stage.capitalize()}" for action in ACTIONS)
