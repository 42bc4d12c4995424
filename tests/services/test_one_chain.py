"""One chain stands behind every figure: the command line and the interface draft and render the same, sample for sample."""

from __future__ import annotations

from dataclasses import asdict, replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.deliver.level import Levelled, level_file
from nivelus.core.drafts.clip_gain import ClipGainRule
from nivelus.core.drafts.dip_rules import DEFAULT_RULES
from nivelus.core.drafts.wants import RideRule
from nivelus.services.clips import details, drafts
from nivelus.services.files import renders
from nivelus.services.lanes import drawing, rides
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.reading import lanes_of
from tests.conftest import CORPUS, RATE, bring_in, detailed_voice, write_sound
from tests.helpers.edits import state_of
from tests.helpers.sounds import with_a_click

RULE = ClipGainRule(-20.0, tolerance=0.5, most_up=20.0, most_down=20.0, noise_limit=-25.0)
KINDS = ("breath", "ess", "knock", "gap")


def by_the_interface(bench: Workbench, source: Path, out: Path, kinds: tuple[str, ...], peaks: bool, ride: bool) -> Changed:
    """What a person does at the page: rules, draft, ride, render. Answers with the state at the end."""
    session = sessions.create(bench, "One")
    track = bring_in(bench, session, source)
    values = {name: value for name, value in asdict(RULE).items() if name not in ("base", "strength")}

    def now() -> int:
        return state_of(bench, track).revision

    sessions.update(bench, session, now(), {**values, "strength": 100, "base_kind": "auto"})
    for kind in kinds:
        details.set_rule(bench, track, now(), kind, {"on": True, **asdict(DEFAULT_RULES[kind])})
    drafts.accept(bench, track, now(), peaks=peaks)
    if ride:
        rides.accept(bench, track, now(), {"noise_limit": RULE.noise_limit, "dead_band": 1.5})
    job = renders.request(bench, track, "wav", 24, with_fader=False)
    renders.run_render(bench, job.id)
    out.write_bytes(renders.rendered_file(bench, job.id)[0].read_bytes())
    return state_of(bench, track)


def by_the_command_line(source: Path, out: Path, kinds: tuple[str, ...], peaks: bool, ride: bool) -> Levelled:
    dips = {kind: DEFAULT_RULES[kind] for kind in kinds}
    riding = RideRule(noise_limit=RULE.noise_limit) if ride else None
    return level_file(source, out, RULE, dips=dips, ride=riding, peaks=peaks)


@pytest.mark.parametrize(
    ("kinds", "peaks", "ride"),
    [((), False, False), (KINDS, False, False), ((), False, True), (("breath", "ess"), True, True)],
    ids=["clip gain", "details", "ride", "all of it"],
)
@pytest.mark.parametrize("voice", ["with a click", "of the corpus"])
def test_the_command_line_renders_what_the_interface_renders(
    bench: Workbench, tmp_path: Path, voice: str, kinds: tuple[str, ...], peaks: bool, ride: bool
) -> None:
    source = tmp_path / "voice.wav"
    if voice == "with a click":
        write_sound(source, with_a_click(0.3))
    else:
        samples, rate = soundfile.read(CORPUS / "dev_04.flac", stop=45 * RATE, dtype="float32")
        soundfile.write(source, samples, rate, "PCM_24")
    state = by_the_interface(bench, source, tmp_path / "page.wav", kinds, peaks, ride)
    done = by_the_command_line(source, tmp_path / "line.wav", kinds, peaks, ride)
    phrases = [clip for clip in state.clips if clip.phrase_start is not None]
    assert [clip.gain for clip in phrases] == [phrase.gain for phrase in done.phrases]
    assert [clip.after for clip in phrases] == pytest.approx([phrase.after for phrase in done.phrases], abs=1e-9)
    assert (ride, peaks and voice == "with a click") == (done.ride is not None, "freed" in {p.reason for p in done.phrases})
    page, line = (soundfile.read(tmp_path / name, dtype="int32")[0] for name in ("page.wav", "line.wav"))
    np.testing.assert_array_equal(page, line)
    assert not np.array_equal(line, soundfile.read(source, dtype="int32")[0])


def test_what_was_brought_in_is_the_trim_over_the_ride(bench: Workbench, tmp_path: Path) -> None:
    """A ride is drafted under it and does not even it out again."""
    source = write_sound(tmp_path / "voice.wav", detailed_voice())
    track = bring_in(bench, sessions.create(bench, "One"), source)

    def now() -> int:
        return state_of(bench, track).revision

    sessions.update(bench, state_of(bench, track).id, now(), {"target": RULE.target, "tolerance": RULE.tolerance})
    drawing.lift_span(bench, track, now(), "trim", 2.0, 3.0, 3.0)
    with bench.database.reading() as db:
        drawn = lanes_of(db, track).trim.points
    drafts.accept(bench, track, now())
    rides.accept(bench, track, now(), {"dead_band": 1.5})
    done = level_file(
        source,
        tmp_path / "line.wav",
        replace(RULE, most_up=9.0, most_down=12.0, noise_limit=-40.0),
        drawn=drawn,
        ride=RideRule(),
    )
    page = rides.view(bench, track)
    assert done.ride is not None
    assert [(p.at, p.db) for p in page.ride] == list(zip(done.ride.curve.at.tolist(), done.ride.curve.db.tolist(), strict=True))
    total = np.array([0.5, 2.5, 3.5])
    assert done.curve.finite_at(total) - done.ride.curve.finite_at(total) == pytest.approx([0.0, 3.0, 0.0], abs=1e-6)
