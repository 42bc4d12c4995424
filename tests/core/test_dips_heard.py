"""Dips in the render: what has fallen, and what is the very samples."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from nivelus.core.deliver.level import level_file
from nivelus.core.marks.details import find_marks
from nivelus.core.measure.grid import measure_file
from nivelus.core.rule import DEFAULT, with_values
from tests.conftest import BREATHS, ESSES, HARSH, RATE, detailed_voice, write_sound


@pytest.fixture
def before(tmp_path: Path) -> Path:
    return write_sound(tmp_path / "voice.wav", detailed_voice(), subtype="FLOAT")


def rendered(before: Path, tmp_path: Path, **rules: dict[str, float]) -> tuple[np.ndarray, np.ndarray]:
    after = tmp_path / "after.wav"
    asked = {f"details.{kind}.{name}": value for kind, rule in rules.items() for name, value in rule.items()}
    switches = {f"details.{kind}.on": True for kind in rules}
    level_file(before, after, with_values(DEFAULT, {"phrases.strength": 0.0, "out.bits": 32} | switches | asked))
    return soundfile.read(before, dtype="float32")[0], soundfile.read(after, dtype="float32")[0]


def test_in_the_render_breaths_have_fallen_and_phrases_are_the_very_samples(before: Path, tmp_path: Path) -> None:
    a, b = rendered(before, tmp_path, breath={"depth": -8.0, "shallowest": 0.0, "deepest": -24.0})
    for start, end in BREATHS:
        span = slice(round((start + 0.03) * RATE), round((end - 0.03) * RATE))
        fallen = 10 * np.log10(np.sum(b[span].astype(float) ** 2) / np.sum(a[span].astype(float) ** 2))
        assert fallen == pytest.approx(-8.0, abs=0.5)
    for phrase in find_marks(measure_file(before)[1]).phrases.phrases:
        span = slice(round(phrase.start * RATE), round(phrase.end * RATE))
        assert (a[span] == b[span]).all()


def test_in_the_render_the_harsh_ess_is_like_the_others_and_gaps_are_down(before: Path, tmp_path: Path) -> None:
    a, b = rendered(
        before,
        tmp_path,
        ess={"depth": -12.0, "shallowest": 0.0, "deepest": -12.0},
        gap={"depth": -20.0, "shallowest": 0.0, "deepest": -40.0},
    )

    def level(x: np.ndarray, start: float, end: float) -> float:
        return float(10 * np.log10(np.mean(x[round(start * RATE) : round(end * RATE)].astype(float) ** 2)))

    harsh = ESSES[HARSH]
    assert level(a, *harsh) - level(a, *ESSES[0]) == pytest.approx(9.0, abs=0.5)
    assert level(b, *harsh) - level(b, *ESSES[0]) == pytest.approx(0.0, abs=2.0)
    # from the end of the last phrase to the end of the recording, past hold and ramp
    last = find_marks(measure_file(before)[1]).phrases.phrases[-1].end
    assert level(b, last + 0.6, last + 0.7) - level(a, last + 0.6, last + 0.7) == pytest.approx(-20.0, abs=0.1)


def test_after_dips_every_detail_is_measured_again_from_the_render(before: Path, tmp_path: Path) -> None:
    rendered(before, tmp_path, ess={"depth": -12.0, "shallowest": 0.0, "deepest": -12.0})
    again = find_marks(measure_file(tmp_path / "after.wav")[1]).of("ess")
    assert max(ess.excess or 0.0 for ess in again) < 2.0
