"""Rules with names at the page: set, kept, given out, brought in and deleted; by mouse and by keys."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from nivelus.core.rule_file import read_rule
from tests.browser.hands import eventually, open_stage
from tests.conftest import uneven_voice, write_sound
from tests.helpers.program import Program

SEARCH = "What to do, or a phrase by its words"


def open_menu(page: Page) -> None:
    page.get_by_role("button", name="rules", exact=True).click()
    expect(page.get_by_role("menuitem", name=re.compile("Lead vocal"))).to_be_visible()


def by_name(page: Page, words: str) -> None:
    page.keyboard.press("Control+k")
    page.get_by_placeholder(SEARCH).fill(words)
    page.keyboard.press("Enter")


def test_a_rule_is_set_kept_given_out_and_brought_into_another_session(
    page: Page, own_program: Program, tmp_path: Path
) -> None:
    program = own_program
    source = write_sound(tmp_path / "host.wav", uneven_voice((-20.0, -26.0)))
    state = program.brought_in(source, "Talk")
    open_stage(page, program, state)
    open_menu(page)
    page.get_by_role("menuitem", name=re.compile("Programme speech")).click()
    expect(page.get_by_text("The rule is “Programme speech” now.")).to_be_visible()
    expect(page.get_by_test_id("figures")).to_contain_text("−23.0 LUFS")
    now = program.session("Talk")
    assert now["undo"] == "Set the rule Programme speech"
    assert [now["tracks"][0]["rules"][kind]["on"] for kind in ("breath", "ess", "gap")] == [True, False, True]
    # a ride that the hand has set goes along; the panel shows what was kept where it is set again
    page.keyboard.press("4")
    page.get_by_text("calm", exact=True).click()
    page.keyboard.press("2")
    open_menu(page)
    page.get_by_role("menuitem", name="Keep this rule as …").click()
    page.get_by_role("textbox", name="Name").fill("Radio")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_text("The rule is kept as “Radio”.")).to_be_visible()
    open_menu(page)
    page.get_by_role("menuitem", name="Save a rule as a file").hover()
    with page.expect_download() as given:
        page.get_by_role("menuitem", name="Radio", exact=True).last.click()
    assert given.value.suggested_filename == "Radio.toml"
    file = tmp_path / "Newsroom.toml"
    given.value.save_as(file)
    rule = read_rule(file.read_bytes())
    assert (rule.target.level, rule.details.breath.on, rule.ride.pace) == (-23.0, True, "calm")
    # another session: brought in, and set by its name, with keys
    other = program.brought_in(source, "Song")
    open_stage(page, program, other)
    page.get_by_label("Rule file").set_input_files(file)
    expect(page.get_by_text("“Newsroom” is one of the rules now.")).to_be_visible()
    by_name(page, "set the rule newsroom")
    eventually(lambda: program.session("Song")["undo"] == "Set the rule Newsroom")
    page.keyboard.press("4")
    expect(page.get_by_role("radio", name="calm")).to_be_checked()
    page.keyboard.press("Control+z")
    eventually(lambda: program.session("Song")["rule"]["target"] == -18.0)
    expect(page.get_by_role("radio", name="usual")).to_be_checked()
    # deleted once that is said again
    page.keyboard.press("2")
    open_menu(page)
    page.get_by_role("menuitem", name="Delete a rule").hover()
    page.get_by_role("menuitem", name="Newsroom", exact=True).last.click()
    page.get_by_role("alert").get_by_role("button", name="Delete").click()
    expect(page.get_by_text("The rule “Newsroom” is deleted.")).to_be_visible()
    assert [one["name"] for one in program.get("/api/rules")["items"] if not one["shipped"]] == ["Radio"]


def test_what_is_no_rule_is_said_and_nothing_is_kept(quiet_page: Page, own_program: Program, tmp_path: Path) -> None:
    page, program = quiet_page, own_program
    state = program.brought_in(write_sound(tmp_path / "host.wav", uneven_voice((-20.0, -26.0))), "Talk")
    open_stage(page, program, state)
    file = tmp_path / "loud.toml"
    file.write_text("[phrases]\nmost_up = 70\n")
    page.get_by_label("Rule file").set_input_files(file)
    expect(page.get_by_text("phrases.most_up is 70: it goes from 0 to 60 dB.")).to_be_visible()
    by_name(page, "keep this rule as")
    page.get_by_role("textbox", name="Name").fill("lead vocal")
    page.keyboard.press("Enter")
    # the dialog says why, and stays with what was typed
    dialog = page.get_by_role("dialog", name="Keep this rule")
    expect(dialog.get_by_text("There is a rule called “lead vocal” already.")).to_be_visible()
    expect(dialog.get_by_role("textbox", name="Name")).to_have_value("lead vocal")
    assert all(one["shipped"] for one in program.get("/api/rules")["items"])
    page.keyboard.press("End")
    page.keyboard.type(" 2")
    page.keyboard.press("Enter")
    expect(page.get_by_text("The rule is kept as “lead vocal 2”.")).to_be_visible()
    expect(dialog).to_be_hidden()
