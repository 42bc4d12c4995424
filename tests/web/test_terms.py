"""What is said once: every reason that a draft can give has its words, and the page's limits are those of the program."""

from __future__ import annotations

import pytest
from flask.testing import FlaskClient

from nivelus.core.drafts import clip_gain, dip_rules, ride, wants
from nivelus.core.dynamics.compressor import SETTINGS, Compressor
from nivelus.core.errors import Refused
from nivelus.core.rule import Number, default, settings
from nivelus.services.clips import details
from nivelus.services.sessions import sessions, tracks
from nivelus.services.terms import terms
from nivelus.services.track.workbench import Workbench
from nivelus.web.rides import RideRuleIn
from tests.helpers.edits import state_of


def test_a_whole_session_brings_the_terms_and_an_answer_does_not(client: FlaskClient, uploaded: dict) -> None:
    told = client.get(f"/api/sessions/{uploaded['id']}").json["terms"]
    assert told == terms().model_dump()
    assert set(told["gain_reasons"]) == set(clip_gain.REASONS)
    assert set(told["mark_reasons"]) == set(dip_rules.REASONS)
    assert set(told["ride_reasons"]) == set(ride.REASONS)
    answer = client.patch(f"/api/sessions/{uploaded['id']}", json={"revision": uploaded["revision"], "name": "Other"})
    assert answer.json["terms"] is None


def test_a_session_tells_how_its_rides_are_drafted_without_a_word(client: FlaskClient, uploaded: dict) -> None:
    told = uploaded["ride"]
    assert RideRuleIn(**told).values() == told
    assert told | {"strength": 0.8} == {name: getattr(wants.RideRule(), name) for name in told}


def test_a_slider_goes_no_further_than_the_program_takes() -> None:
    told = terms().settings
    compressor = {f"load.{name}": getattr(Compressor(), name) for name in SETTINGS}
    assert told.keys() == {path for path, _, about in settings() if isinstance(about, Number)} | compressor.keys()
    for path, one in told.items():
        assert one.least <= one.low < one.high <= one.most, path
        assert one.low <= (compressor[path] if path in compressor else default(path)) <= one.high, path


def test_limits_are_those_that_edits_keep_to(bench: Workbench, detailed: str) -> None:
    limits = terms()
    tracks.set_fader(bench, detailed, state_of(bench, detailed).revision, limits.fader_low)
    with pytest.raises(Refused):
        tracks.set_fader(bench, detailed, state_of(bench, detailed).revision, limits.fader_high + 0.1)
    breath = next(mark for mark in state_of(bench, detailed).marks if mark.kind == "breath")
    details.set_edges(bench, detailed, state_of(bench, detailed).revision, breath.id, ramp_in=limits.longest_ramp + 1)
    now = next(mark for mark in state_of(bench, detailed).marks if mark.id == breath.id)
    assert now.ramp_in == limits.longest_ramp
    assert sessions.state(bench, state_of(bench, detailed).id).terms is None
