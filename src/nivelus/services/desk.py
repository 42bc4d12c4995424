"""What is set of a track's place in the mix: its compressor, how it makes room, and whether it sounds."""

from __future__ import annotations

from collections.abc import Sequence

from nivelus.core.drafts.duck import DuckRule
from nivelus.core.dynamics.compressor import Compressor
from nivelus.services.views import DuckSettings, LoadSettings, SpanView
from nivelus.store.tables import Track


def load_settings(track: Track) -> LoadSettings:
    """What is set of a track's compressor, with what comes by itself where nothing was set."""
    plain = Compressor()
    known = {name: getattr(plain, name) for name in Compressor.__slots__}
    return LoadSettings(**(known | {"threshold_after": None} | track.load))


def duck_settings(track: Track) -> DuckSettings:
    """How a bed makes room, with what comes by itself where nothing was set."""
    rule = DuckRule()
    known = {name: getattr(rule, name) for name in DuckRule.__slots__}
    return DuckSettings(**(known | track.duck | {"locked": [SpanView(start=a, end=b) for a, b in locked_spans(track)]}))


def locked_spans(track: Track) -> list[tuple[float, float]]:
    """The spans (seconds) of a bed that drafts leave alone."""
    return [(start, end) for start, end in track.duck.get("locked", [])]


def sounding(tracks: Sequence[Track]) -> list[Track]:
    """The tracks that are heard: not muted, and soloed if any is."""
    soloed = any(track.solo for track in tracks)
    return [track for track in tracks if not track.mute and (track.solo or not soloed)]
