"""A session that cannot be read, as a person meets it: named on its card, and a way out of it with one press."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect

from nivelus.store.packing import pack_table
from tests.conftest import uneven_voice, write_sound
from tests.helpers.program import Program


def test_a_broken_session_is_shown_given_out_and_undone_to_where_it_was_whole(
    page: Page, own_program: Program, tmp_path: Path
) -> None:
    whole = own_program.brought_in(write_sound(tmp_path / "whole.wav", uneven_voice()), "Harbour bells")
    state = own_program.brought_in(write_sound(tmp_path / "voice.wav", uneven_voice((-20.0, -30.0))), "Tide tables")
    lift = {"lane": "ride", "start": 1.0, "end": 2.0, "by": 3.0}
    own_program.post(f"/api/tracks/{state['tracks'][0]['id']}/lanes/lift", {"revision": state["revision"], **lift})
    with closing(sqlite3.connect(own_program.data / "nivelus.sqlite")) as db, db:
        # as a disk that fails, or an older version, could leave it
        points = pack_table(np.array([(1.0, np.nan, 0, 0, 1)]))
        db.execute("UPDATE lane SET points = ?", (points,))
        db.execute("UPDATE session SET revision = revision + 1 WHERE id = ?", (state["id"],))
    page.goto(own_program.address)
    card = page.locator(".card", has_text="Tide tables")
    expect(card).to_contain_text("cannot be read")
    expect(page.locator(".card", has_text="Harbour bells")).to_contain_text("of 4 level")
    card.get_by_role("link").click()
    expect(page.get_by_role("heading", name="This session cannot be read")).to_be_visible()
    with page.expect_download() as given:
        page.get_by_role("link", name="Save as a file").click()
    assert given.value.suggested_filename == "Tide tables.nivelus.json"
    assert json.loads(Path(given.value.path()).read_text())["rows"]["lane"][0]["points"] == points
    page.get_by_role("button", name="Undo to where it was whole").click()
    expect(page.get_by_test_id("lanes")).to_be_visible()
    page.get_by_role("link", name="Nivelus, all sessions").click()
    expect(page.locator(".card", has_text="Tide tables")).to_contain_text("of 2 level")
    assert own_program.get(f"/api/sessions/{whole['id']}")["revision"] == whole["revision"]
