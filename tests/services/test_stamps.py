"""What is accepted is what was on view: a draft that has changed meanwhile is not done, and says so."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from nivelus.core.errors import DraftChanged
from nivelus.services.clips import drafts
from nivelus.services.lanes import passes, rides
from nivelus.services.mix import balance
from nivelus.services.sessions import sessions
from nivelus.services.track.workbench import Workbench
from tests.conftest import RATE, bring_in, uneven_voice, write_sound
from tests.helpers.edits import content, state_of
from tests.helpers.riding import AS_IT_COMES, moves, ride

OTHERWISE = replace(AS_IT_COMES, glide=2.0)
Draft = Callable[..., Any]
Accept = Callable[..., Any]


@pytest.fixture
def session(bench: Workbench, tmp_path: Path) -> dict[str, str]:
    """A voice, a bed that swells, and a pass that was ridden on the voice."""
    id = sessions.create(bench, "Drafts")
    voice = bring_in(bench, id, write_sound(tmp_path / "voice.wav", uneven_voice((-30.0, -16.0, -24.0, -38.0) * 2)))
    swell = np.random.default_rng(3).standard_normal(30 * RATE) * 10 ** ((-34 + 6 * np.sin(np.arange(30 * RATE) / RATE)) / 20)
    bed = bring_in(bench, id, write_sound(tmp_path / "sea.wav", swell))
    return {"id": id, "voice": voice, "bed": bed, "pass": ride(bench, voice, moves((1, 0), (2, -5), (4, 3), (6, -2)))}


KINDS: dict[str, tuple[Draft, Accept, Any, Any]] = {
    "clip gain": (
        lambda b, s, ids: drafts.draft(b, s["voice"], ids),
        lambda b, s, r, ids, stamp: drafts.accept(b, s["voice"], r, ids, stamp=stamp),
        None,
        "first phrase",
    ),
    "ride": (
        lambda b, s, values: rides.draft(b, s["voice"], values),
        lambda b, s, r, values, stamp: rides.accept(b, s["voice"], r, values, stamp=stamp),
        {},
        {"strength": 30.0},
    ),
    "duck": (
        lambda b, s, values: balance.draft(b, s["bed"], values),
        lambda b, s, r, values, stamp: balance.accept(b, s["bed"], r, values, stamp),
        {"way": "depth", "depth": -6.0},
        {"way": "depth", "depth": -9.0},
    ),
    "slow ride": (
        lambda b, s, values: balance.draft_slowly(b, s["bed"], values),
        lambda b, s, r, values, stamp: balance.accept_slowly(b, s["bed"], r, values, stamp),
        {},
        {"most_down": 2.0, "most_up": 2.0},
    ),
    "pass": (
        lambda b, s, how: passes.draft(b, s["pass"], how),
        lambda b, s, r, how, stamp: passes.keep(b, s["pass"], r, how, stamp=stamp),
        AS_IT_COMES,
        OTHERWISE,
    ),
}


@pytest.mark.parametrize("kind", KINDS)
def test_a_draft_is_accepted_by_its_stamp_and_no_other_is(bench: Workbench, session: dict[str, str], kind: str) -> None:
    draft, accept, shown, other = KINDS[kind]
    before = sessions.state(bench, session["id"])
    if other == "first phrase":
        other = {next(clip.id for clip in before.clips if clip.track == session["voice"] and clip.after is not None)}
    stamp = draft(bench, session, shown).stamp
    assert draft(bench, session, shown).stamp == stamp != draft(bench, session, other).stamp
    with pytest.raises(DraftChanged, match="another one by now"):
        accept(bench, session, before.revision, other, stamp)
    now = sessions.state(bench, session["id"])
    assert (now.revision, content(now)) == (before.revision, content(before))
    done = accept(bench, session, now.revision, shown, stamp)
    assert done.revision == now.revision + 1


def test_a_draft_of_another_target_is_not_accepted_for_the_one_on_view(bench: Workbench, session: dict[str, str]) -> None:
    stamp = drafts.draft(bench, session["voice"]).stamp
    state = sessions.update(bench, session["id"], state_of(bench, session["voice"]).revision, {"target": -27.0})
    with pytest.raises(DraftChanged):
        drafts.accept(bench, session["voice"], state.revision, stamp=stamp)
    # who has seen none, such as the command line, has what is so now
    assert drafts.accept(bench, session["voice"], state.revision).revision == state.revision + 1
