"""What the interface has to know and must not say a second time: words of reasons, limits, and what comes by itself."""

from __future__ import annotations

from dataclasses import asdict
from functools import lru_cache

from nivelus.core.drafts import clip_gain, dip_rules, duck, ride, slow, wants
from nivelus.core.gain.clips import SHORTEST_CLIP_SECONDS
from nivelus.core.passes import writing
from nivelus.services.clips.detail_rows import SHORTEST
from nivelus.services.clips.details import LONGEST_RAMP
from nivelus.services.lanes.passes import Settings
from nivelus.services.sessions.tracks import FADER_RANGE
from nivelus.services.views.session import PassTerms, RideDefaults, Terms


@lru_cache(maxsize=1)
def terms() -> Terms:
    """The terms of this version of the program."""
    rule = wants.RideRule()
    return Terms(
        gain_reasons=clip_gain.REASONS,
        mark_reasons=dip_rules.REASONS,
        ride_reasons=ride.REASONS,
        ride=RideDefaults(
            strength=100 * rule.strength,
            most_up=rule.most_up,
            most_down=rule.most_down,
            natural_fall=rule.natural_fall,
            pace=rule.pace,
            error=rule.error,
        ),
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
    )
