"""What the interface has to know and must not say a second time: words of reasons, limits, and what comes by itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict
from functools import lru_cache

from nivelus.core.deliver.curve_formats import FORMATS
from nivelus.core.drafts import clip_gain, dip_rules, duck, ride, slow
from nivelus.core.dynamics.compressor import SETTINGS
from nivelus.core.gain.clips import SHORTEST_CLIP_SECONDS
from nivelus.core.kinds import ALL_KINDS
from nivelus.core.passes import writing
from nivelus.core.rule import Number, settings
from nivelus.core.sound_formats import FORMATS as SOUND_FORMATS
from nivelus.services.clips.detail_rows import SHORTEST
from nivelus.services.clips.details import LONGEST_RAMP
from nivelus.services.lanes.passes import Settings
from nivelus.services.sessions.tracks import FADER_RANGE
from nivelus.services.views.terms import (
    CurveFormatTerms,
    KindTerms,
    PassTerms,
    SettingTerms,
    SoundFormats,
    SoundFormatTerms,
    Terms,
)


@lru_cache(maxsize=1)
def terms() -> Terms:
    """The terms of this version of the program."""
    return Terms(
        gain_reasons=clip_gain.REASONS,
        mark_reasons=dip_rules.REASONS,
        ride_reasons=ride.REASONS,
        settings={path: SettingTerms(least=one.least, most=one.most, low=one.low, high=one.high) for path, one in _numbers()},
        kinds={one.name: KindTerms(against=one.against, share=one.share, usually=one.usually) for one in ALL_KINDS},
        curve_formats=[CurveFormatTerms(words=one.words, endings=list(one.endings)) for one in FORMATS],
        passes=PassTerms(
            **asdict(Settings()),
            most_glide=writing.MOST_GLIDE,
            most_lead=writing.MOST_LEAD,
        ),
        shortest_mark=SHORTEST,
        shortest_clip=SHORTEST_CLIP_SECONDS,
        longest_ramp=LONGEST_RAMP,
        fader_low=FADER_RANGE[0],
        fader_high=FADER_RANGE[1],
        slow_most_down=slow.SlowRule().most_down,
        distance_slack=duck.KEPT,
        lisp=dip_rules.LISP,
    )


def _numbers() -> Iterator[tuple[str, Number]]:
    """The numbers of a rule by their paths, and those of the compressor as ``load`` and their names."""
    yield from ((path, number) for path, _, number in settings() if isinstance(number, Number))
    yield from ((f"load.{name}", number) for name, number in SETTINGS.items())


@lru_cache(maxsize=1)
def sound_formats() -> SoundFormats:
    """The formats of sound files that are read, and what is written of them."""
    return SoundFormats(
        items=[
            SoundFormatTerms(
                name=one.name,
                words=list(one.words),
                common=list(one.words[: one.common]),
                endings=list(one.endings),
                bits=list(one.bits),
            )
            for one in SOUND_FORMATS
        ]
    )
