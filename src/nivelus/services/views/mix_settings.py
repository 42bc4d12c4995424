"""What is set of a track's place in the mix: its compressor, how it makes room, and whether it sounds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from nivelus.core.drafts.duck import DuckRule
from nivelus.core.dynamics.compressor import Compressor
from nivelus.services.views.session import DuckSettings, LoadSettings, SpanView
from nivelus.store.tables import Track


def load_settings(track: Track) -> LoadSettings:
    """What is set of a track's compressor, with what comes by itself where nothing was set."""
    return LoadSettings(**(asdict(Compressor()) | {"threshold_after": None} | track.load))


def duck_settings(track: Track) -> DuckSettings:
    """How a bed makes room, with what comes by itself where nothing was set."""
    locked = [SpanView(start=start, end=end) for start, end in locked_spans(track)]
    return DuckSettings(**(asdict(DuckRule()) | track.duck | {"locked": locked}))


def locked_spans(track: Track) -> list[tuple[float, float]]:
    """The spans (seconds) of a bed that drafts leave alone."""
    return [(start, end) for start, end in track.duck.get("locked", [])]


def sounding(tracks: Sequence[Track]) -> list[Track]:
    """The tracks that are heard: not muted, and soloed if any is."""
    soloed = any(track.solo for track in tracks)
    return [track for track in tracks if not track.mute and (track.solo or not soloed)]
