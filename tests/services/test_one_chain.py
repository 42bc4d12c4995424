"""One chain stands behind every figure: the command line and the interface draft and render the same, sample for sample."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.deliver.against import level_slowly, make_room
from nivelus.core.deliver.level import Levelled, level_file
from nivelus.core.drafts.from_rule import duck_rule, slow_rule
from nivelus.core.kinds import NAMES
from nivelus.core.rule import DEFAULT, Way, with_values
from nivelus.services.clips import details, drafts
from nivelus.services.files import renders
from nivelus.services.lanes import drawing, rides
from nivelus.services.mix import balance
from nivelus.services.sessions import sessions, tracks
from nivelus.services.track.rules import COLUMNS
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.session import Changed
from nivelus.store.reading import lanes_of
from tests.conftest import CORPUS, RATE, bring_in, detailed_voice, write_sound
from tests.helpers.edits import state_of
from tests.helpers.sounds import with_a_click

RULE = {
    "target.level": -20.0,
    "target.tolerance": 0.5,
    "phrases.most_up": 20.0,
    "phrases.most_down": 20.0,
    "phrases.noise_limit": -25.0,
}


def by_the_interface(bench: Workbench, source: Path, out: Path, kinds: tuple[str, ...], peaks: bool, ride: bool) -> Changed:
    """What a person does at the page: rules, draft, ride, render. Answers with the state at the end."""
    session = sessions.create(bench, "One")
    track = bring_in(bench, session, source)

    def now() -> int:
        return state_of(bench, track).revision

    sessions.update(bench, session, now(), {COLUMNS[path]: value for path, value in RULE.items()})
    for kind in kinds:
        details.set_rule(bench, track, now(), kind, {"on": True})
    drafts.accept(bench, track, now(), peaks=peaks)
    if ride:
        rides.accept(bench, track, now())
    job = renders.request(bench, track, "wav", 24, with_fader=False)
    renders.run_render(bench, job.id)
    out.write_bytes(renders.rendered_file(bench, job.id)[0].read_bytes())
    return state_of(bench, track)


def by_the_command_line(source: Path, out: Path, kinds: tuple[str, ...], peaks: bool, ride: bool) -> Levelled:
    down = {f"details.{kind}.on": True for kind in kinds}
    return level_file(source, out, with_values(DEFAULT, RULE | down | {"ride.on": ride, "phrases.peaks": peaks}))


@pytest.mark.parametrize(
    ("kinds", "peaks", "ride"),
    [((), False, False), (NAMES, False, False), ((), False, True), (("breath", "ess"), True, True)],
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


@pytest.mark.parametrize("way", ["depth", "distance"])
def test_a_bed_makes_the_same_room_at_the_page_and_on_the_command_line(bench: Workbench, tmp_path: Path, way: Way) -> None:
    """The mix of a levelled voice and its bed, of another rate, sample for sample."""
    source, music = tmp_path / "voice.wav", tmp_path / "music.wav"
    samples, rate = soundfile.read(CORPUS / "dev_04.flac", stop=45 * RATE, dtype="float32")
    soundfile.write(source, samples, rate, "PCM_24")
    noise = np.random.default_rng(3).standard_normal((40 * 44_100, 2)) * 10 ** (-28 / 20)
    write_sound(music, noise, 44_100)
    session = sessions.create(bench, "One")
    voice, bed = bring_in(bench, session, source), bring_in(bench, session, music)

    def now() -> int:
        return state_of(bench, voice).revision

    if next(track for track in state_of(bench, voice).tracks if track.id == bed).kind != "bed":
        tracks.set_kind(bench, bed, now(), "bed")
    drafts.accept(bench, voice, now())
    balance.accept(bench, bed, now(), {"way": way})
    job = renders.request_mix(bench, session, "wav", 24, limited=False, compressed=False)
    renders.run_render(bench, job.id)
    rule = with_values(DEFAULT, {"duck.way": way})
    line = tmp_path / "line.wav"
    made = make_room(source, level_file(source, tmp_path / "out.wav", rule).state, music, duck_rule(rule), line)
    assert len(made.draft.curve) > 4
    np.testing.assert_array_equal(
        soundfile.read(renders.rendered_file(bench, job.id)[0], dtype="int32")[0], soundfile.read(line, dtype="int32")[0]
    )


def test_music_is_ridden_slowly_the_same_at_the_page_and_on_the_command_line(bench: Workbench, tmp_path: Path) -> None:
    levels = np.repeat(10 ** (np.array([-20.0, -34.0, -24.0, -38.0]) / 20), 8 * RATE)
    music = write_sound(tmp_path / "music.wav", np.random.default_rng(4).standard_normal(len(levels)) * levels * 0.2)
    track = bring_in(bench, sessions.create(bench, "Music"), music)
    balance.accept_slowly(bench, track, state_of(bench, track).revision)
    job = renders.request(bench, track, "wav", 24, with_fader=False)
    renders.run_render(bench, job.id)
    rule = slow_rule(with_values(DEFAULT, {"target.kind": "median"}))
    assert len(level_slowly(music, tmp_path / "line.wav", rule).curve) > 4
    np.testing.assert_array_equal(
        soundfile.read(renders.rendered_file(bench, job.id)[0], dtype="int32")[0],
        soundfile.read(tmp_path / "line.wav", dtype="int32")[0],
    )


def test_what_was_brought_in_is_the_trim_over_the_ride(bench: Workbench, tmp_path: Path) -> None:
    """A ride is drafted under it and does not even it out again."""
    source = write_sound(tmp_path / "voice.wav", detailed_voice())
    track = bring_in(bench, sessions.create(bench, "One"), source)

    def now() -> int:
        return state_of(bench, track).revision

    sessions.update(bench, state_of(bench, track).id, now(), {"target": -20.0, "tolerance": 0.5})
    drawing.lift_span(bench, track, now(), "trim", 2.0, 3.0, 3.0)
    with bench.database.reading() as db:
        drawn = lanes_of(db, track).trim.points
    drafts.accept(bench, track, now())
    rides.accept(bench, track, now())
    rule = with_values(DEFAULT, {"target.level": -20.0, "target.tolerance": 0.5, "ride.on": True})
    done = level_file(source, tmp_path / "line.wav", rule, drawn=drawn)
    page = rides.view(bench, track)
    assert done.ride is not None
    assert [(p.at, p.db) for p in page.ride] == list(zip(done.ride.curve.at.tolist(), done.ride.curve.db.tolist(), strict=True))
    total = np.array([0.5, 2.5, 3.5])
    assert done.curve.finite_at(total) - done.ride.curve.finite_at(total) == pytest.approx([0.0, 3.0, 0.0], abs=1e-6)
