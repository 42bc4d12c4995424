"""Rules with names: what comes with the program, what is kept of a session, and what another session makes of it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.deliver.level import level_file
from nivelus.core.errors import NotFound, Refused, RuleError
from nivelus.core.rule import DEFAULT, with_values
from nivelus.core.rule_file import read_rule
from nivelus.core.shipped import SHIPPED
from nivelus.services.clips import details, drafts
from nivelus.services.files import renders
from nivelus.services.lanes import rides
from nivelus.services.mix import balance
from nivelus.services.sessions import rules, sessions, tracks
from nivelus.services.track.workbench import Workbench
from nivelus.store.tables import KeptRule
from tests.conftest import RATE, bring_in, detailed_voice, write_sound
from tests.helpers.edits import content
from tests.helpers.timelines import state_of


@pytest.fixture
def session(bench: Workbench) -> str:
    return sessions.create(bench, "One")


@pytest.fixture
def voice(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", detailed_voice())


def music(bench: Workbench, session: str, folder: Path) -> str:
    """A bed; its id."""
    noise = np.random.default_rng(1).standard_normal(20 * RATE) * 10 ** (-34 / 20)
    bed = bring_in(bench, session, write_sound(folder / "sea.wav", noise))
    if next(track for track in state_of(bench, session).tracks if track.id == bed).kind != "bed":
        tracks.set_kind(bench, bed, state_of(bench, session).revision, "bed")
    return bed


def test_five_rules_come_with_the_program(bench: Workbench) -> None:
    items = rules.named(bench).items
    assert [rule.name for rule in items] == [
        "Programme speech",
        "Telephone and mobile",
        "Audio book",
        "Lead vocal",
        "Choir and ensemble",
    ]
    assert all(rule.shipped and rule.words for rule in items)
    for rule in items:
        name, data = rules.give_out(bench, rule.id)
        assert name == f"{rule.name}.toml"
        assert read_rule(data) == SHIPPED[rule.id].rule != DEFAULT
        with pytest.raises(Refused, match="it stays"):
            rules.remove(bench, rule.id)


def test_a_rule_that_is_kept_is_that_of_another_session_in_one_step(
    bench: Workbench, session: str, voice: Path, tmp_path: Path
) -> None:
    track, bed = bring_in(bench, session, voice), music(bench, session, tmp_path)

    def now() -> int:
        return state_of(bench, session).revision

    sessions.update(bench, session, now(), {"target": -23.0, "most_up": 15.0, "base_kind": "none", "longest": 12.0})
    details.set_rule(bench, track, now(), "breath", {"on": True, "depth": -5.0})
    drafts.accept(bench, track, now())
    balance.accept(bench, bed, now(), {"way": "distance", "distance": 9.0})
    kept = rules.keep(bench, session, "  Mine ", track, {"strength": 55.0, "pace": "calm"})
    assert (kept.name, kept.shipped) == ("Mine", False)
    other = sessions.create(bench, "Two")
    second, under = bring_in(bench, other, voice), music(bench, other, tmp_path)
    balance.lock(bench, under, state_of(bench, other).revision, 2.0, 4.0, True)
    before = state_of(bench, other)
    after = rules.apply(bench, other, before.revision, kept.id)
    now_there = state_of(bench, other)
    assert after.label == now_there.undo == "Set the rule Mine"
    assert now_there.rule == state_of(bench, session).rule
    assert (now_there.ride.strength, now_there.ride.pace, now_there.ride.most_up) == (55.0, "calm", DEFAULT.ride.most_up)
    own, own_bed = (next(one for one in now_there.tracks if one.id == id) for id in (second, under))
    assert (own.rules["breath"].on, own.rules["breath"].depth, own.rules["gap"].on) == (True, -5.0, False)
    assert (own_bed.duck.way, own_bed.duck.distance) == ("distance", 9.0)
    # what no draft may touch is no part of a rule
    assert [(span.start, span.end) for span in own_bed.duck.locked] == [(2.0, 4.0)]
    sessions.undo(bench, other, now_there.revision)
    assert content(state_of(bench, other)) == content(before)
    assert state_of(bench, other).ride == before.ride
    sessions.redo(bench, other, state_of(bench, other).revision)
    assert content(state_of(bench, other)) == content(now_there)
    assert state_of(bench, other).ride == now_there.ride


def test_phrases_settle_where_a_rule_turns_their_details_down(bench: Workbench, session: str, voice: Path) -> None:
    """As they do where the rule of a kind is set by hand, in the same step."""
    track = bring_in(bench, session, voice)
    drafts.accept(bench, track, state_of(bench, session).revision)
    level = [clip.after for clip in state_of(bench, session).clips if clip.phrase_start is not None]
    rule = rules.bring_in(bench, "Esses", b"[details.ess]\non = true\ndepth = -12\n")
    rules.apply(bench, session, state_of(bench, session).revision, rule.id)
    now = [clip.after for clip in state_of(bench, session).clips if clip.phrase_start is not None]
    assert state_of(bench, session).tracks[0].rules["ess"].on
    assert now == pytest.approx(level, abs=0.05)


def test_the_command_line_does_with_the_file_what_the_page_did(
    bench: Workbench, session: str, voice: Path, tmp_path: Path
) -> None:
    """A rule is set at the page, kept, given out and taken by the command line: the renders are the same, sample for sample."""
    track = bring_in(bench, session, voice)

    def now() -> int:
        return state_of(bench, session).revision

    rules.apply(bench, session, now(), "lead-vocal")
    sessions.update(bench, session, now(), {"target": -21.0, "noise_limit": -30.0})
    drafts.accept(bench, track, now())
    rides.accept(bench, track, now())
    job = renders.request(bench, track, "wav", 24, with_fader=False)
    renders.run_render(bench, job.id)
    kept = rules.keep(bench, session, "Song", track, {})
    rule = read_rule(rules.give_out(bench, kept.id)[1])
    # whether there is a ride is for the person to say at the page
    level_file(voice, tmp_path / "line.wav", with_values(rule, {"ride.on": True}))
    page, line = (
        soundfile.read(path, dtype="int32")[0] for path in (renders.rendered_file(bench, job.id)[0], tmp_path / "line.wav")
    )
    np.testing.assert_array_equal(page, line)


def test_a_rule_comes_in_from_a_file_and_is_deleted(bench: Workbench, session: str) -> None:
    rule = rules.bring_in(bench, "Theirs", b"[target]\nlevel = -24\n")
    assert [one.name for one in rules.named(bench).items if not one.shipped] == ["Theirs"]
    assert read_rule(rules.give_out(bench, rule.id)[1]) == with_values(DEFAULT, {"target.level": -24.0})
    for name in ("theirs", "Lead Vocal"):
        with pytest.raises(Refused, match="already"):
            rules.bring_in(bench, name, b"")
    for name, data in (("Bad", b"[target]\nlevel = 3\n"), ("Bad", b"\xff"), ("Bad", b"[x]\ny = 1\n")):
        with pytest.raises(RuleError):
            rules.bring_in(bench, name, data)
    with pytest.raises(Refused, match="letter"):
        rules.bring_in(bench, " \n", b"")
    assert len(rules.named(bench).items) == len(SHIPPED) + 1
    rules.remove(bench, rule.id)
    revision = state_of(bench, session).revision
    for gone in (
        lambda: rules.remove(bench, rule.id),
        lambda: rules.give_out(bench, rule.id),
        lambda: rules.apply(bench, session, revision, rule.id),
    ):
        with pytest.raises(NotFound):
            gone()
    assert state_of(bench, session).revision == revision


def test_a_kept_rule_that_the_program_cannot_have_any_more_says_so(bench: Workbench, session: str) -> None:
    with bench.database.writing() as db:
        row = KeptRule(name="Old", values={"phrases.loudness": 3})
        db.add(row)
        id = row.id
    with pytest.raises(RuleError, match="\u201cOld\u201d cannot be used"):
        rules.apply(bench, session, state_of(bench, session).revision, id)
    assert "Old" in [rule.name for rule in rules.named(bench).items]
    rules.remove(bench, id)
