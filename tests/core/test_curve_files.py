"""Curves in files: a round trip loses nothing beyond the format's resolution, and a bad file gets a sentence."""

from __future__ import annotations

import io
import re
from contextlib import suppress
from pathlib import Path

import mido
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.deliver.curve_csv import read_csv, write_csv
from nivelus.core.deliver.curve_formats import FORMATS, CurveFormat, every_format, read_curve
from nivelus.core.deliver.curve_midi import HIGH, LOW, MOST, read_midi, write_midi
from nivelus.core.errors import CurveFileError, NivelusError
from nivelus.core.gain.drawn import EMPTY, FINE, Curve, Shape, curve_of
from nivelus.core.gain.edits import lift
from tests.helpers.curves import curves, times


@given(curve=curves(least=1))
@settings(max_examples=100, deadline=None)
def test_csv_brings_every_point_back(curve: Curve) -> None:
    again = read_csv(write_csv(curve))
    assert again.at == pytest.approx(curve.at, abs=1e-9)
    assert (again.shape == curve.shape).all()
    assert again.db == pytest.approx(curve.db, abs=5.1e-5)


def test_a_cosine_that_was_cut_is_written_as_straight_pieces() -> None:
    curve = lift(curve_of([(0.0, -10.0, Shape.SMOOTH), (4.0, 6.0)]), 1.0, 2.0, 3.0, 0.1, 0.1)
    again = read_csv(write_csv(curve))
    assert again(times) == pytest.approx(curve(times), abs=2 * FINE)


@pytest.mark.parametrize(
    "text",
    [
        "seconds,dB\n0,0\n1.5,-3.25\n",
        "0,0\r\n\r\n1.5,-3.25",
        "\ufeffTime;Gain\n0;0\n1,5;-3,25\n",
        "0\t0\n1,5\t-3,25",
        "1.5, -3.25\n0, 0",
    ],
)
def test_csv_of_other_hands_is_read(text: str) -> None:
    curve = read_csv(text.encode())
    assert curve.at.tolist() == [0.0, 1.5]
    assert curve.db.tolist() == [0.0, -3.25]


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "no points"),
        (b"seconds,dB\n", "no points"),
        (b"0,0\none,two\n", "Line 2"),
        (b"0,0\n1\n", "Line 2"),
        (b"0,nan\n1,nan\n", "Line 1|no points"),
        (b"-1,0\n", "no time"),
        (b"0,900\n", "no gain"),
        (b"0,0,wobbly\n", "shape"),
        (b"\xff\xfe\x00", "no text"),
    ],
)
def test_what_is_no_curve_in_csv_is_said(data: bytes, words: str) -> None:
    with pytest.raises(CurveFileError, match=words):
        read_csv(data)


@given(curve=curves(finite=True, least=1))
@settings(max_examples=60, deadline=None)
def test_midi_brings_the_gain_back_within_its_steps(curve: Curve) -> None:
    """A step is 0.0044 dB; time is told in 0.52 ms, within which the gain may have moved."""
    again = read_midi(write_midi(curve))
    at = np.arange(0.0, 10.5, 0.01)
    near = np.stack([np.clip(curve(at + shift), LOW, HIGH) for shift in (-0.0011, 0.0, 0.0011)])
    slack = (HIGH - LOW) / (MOST - 1) + 0.02
    # within a hold's ramp of 5 ms and a cosine's bend between two events a straight line is taken
    bends = 0.04 * np.ptp(np.clip(curve.db, LOW, HIGH))
    assert (again(at) >= near.min(axis=0) - slack - bends).all()
    assert (again(at) <= near.max(axis=0) + slack + bends).all()


def test_midi_of_straight_lines_is_exact_to_its_steps() -> None:
    curve = curve_of([(0.0, 0.0), (1.0, -12.0), (3.0, -12.0), (3.5, 6.0), (5.0, -np.inf)])
    data = write_midi(curve)
    at = np.concatenate([np.arange(0, 3.5, 0.007), np.arange(3.6, 4.4, 0.007)])
    assert np.maximum(read_midi(data)(at), LOW) == pytest.approx(np.maximum(curve(at), LOW), abs=0.03)
    assert np.isneginf(read_midi(data)([5.0, 9.0])).all()
    # another reader agrees on when it ends and what is in it
    other = mido.MidiFile(file=io.BytesIO(data))
    assert other.length == pytest.approx(5.0, abs=0.001)
    assert {m.control for m in other if m.type == "control_change"} == {7, 39}


def midi(*events: tuple[float, int, int], tempo: int = 500_000) -> bytes:
    """A file of control changes: seconds, control, value."""
    track, last = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=tempo)]), 0
    for at, control, value in events:
        tick = round(at * 480 * 1e6 / tempo)
        track.append(mido.Message("control_change", control=control, value=value, time=tick - last))
        last = tick
    out = io.BytesIO()
    mido.MidiFile(ticks_per_beat=480, tracks=[track]).save(file=out)
    return out.getvalue()


def test_volume_from_elsewhere_is_read_by_its_usual_mapping_and_held_between_far_events() -> None:
    curve = read_midi(midi((0.0, 7, 127), (2.0, 7, 64), (4.0, 7, 0), (5.0, 1, 3)))
    assert curve([0.0, 1.9]).tolist() == pytest.approx([0.0, 0.0], abs=1e-9)
    assert curve([2.1, 3.9]).tolist() == pytest.approx([40 * np.log10(64 / 127)] * 2)
    assert np.isneginf(curve([4.5])).all()
    fine = read_midi(midi((0.0, 11, 100), (0.0, 43, 64), (1.0, 11, 100), (1.0, 43, 0), tempo=400_000))
    assert fine([0.0]).tolist() == pytest.approx([40 * np.log10((100 * 128 + 64) / MOST)])


@pytest.mark.parametrize("data", [b"", b"MThd", b"not midi at all", write_midi(curve_of([(0.0, -3.0)]))[:40]])
def test_what_is_no_midi_file_is_said(data: bytes) -> None:
    with pytest.raises(CurveFileError, match="Standard MIDI File"):
        read_midi(data)
    with pytest.raises(CurveFileError, match="no volume"):
        read_midi(midi((0.0, 1, 5)))


def test_lines_may_end_in_any_way_and_a_broken_table_gets_a_sentence() -> None:
    for end in (b"\n", b"\r\n", b"\r"):
        assert read_csv(end.join([b"seconds,dB", b"0,-1", b"2,3"])).db.tolist() == [-1.0, 3.0]
    with pytest.raises(CurveFileError, match="no table"):
        read_csv(b"0," + b"1" * 200_000)


@given(data=st.binary(max_size=200), at=st.integers(0, 60))
@settings(max_examples=100, deadline=None)
def test_broken_files_never_end_otherwise(data: bytes, at: int) -> None:
    good = write_midi(curve_of([(0.0, -3.0), (1.0, 2.0)]))
    for broken in (data, good[:at] + data + good[at:]):
        for known in FORMATS:
            with suppress(CurveFileError):
                assert len(known.read(broken)) > 0


@pytest.mark.parametrize("known", FORMATS, ids=lambda known: known.name)
def test_a_curve_comes_back_from_every_format(known: CurveFormat, tmp_path: Path) -> None:
    """As near as a hundredth of a dB and a millisecond, by the name that it is written under; and docs tell of it."""
    curve = curve_of([(0.0, 0.0), (1.0, -6.0), (2.5, -6.0), (4.0, 3.0), (6.0, 0.0)])
    path = tmp_path / f"ride.{known.ending}"
    path.write_bytes(known.write(curve))
    at = np.linspace(0.05, 5.95, 200)
    assert read_curve(path)(at) == pytest.approx(curve(at), abs=0.05)
    docs = (Path(__file__).parents[2] / "docs" / "formats.md").read_text()
    assert f"--curve-as {known.ending}" in docs


def test_files_are_known_by_their_names(tmp_path: Path) -> None:
    (tmp_path / "ride.csv").write_text("0,-3")
    (tmp_path / "broken.mid").write_bytes(b"x")
    assert read_curve(tmp_path / "ride.csv").db.tolist() == [-3.0]
    for name, words in (("ride.doc", every_format()), ("gone.csv", "is not there"), ("broken.mid", "broken.mid")):
        with pytest.raises(NivelusError, match=re.escape(words)):
            read_curve(tmp_path / name)
    assert len(read_csv(b"0,0")) == 1
    assert len(EMPTY) == 0
