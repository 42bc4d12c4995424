"""Where what dies away behind a phrase has come down to the room.

A phrase mark ends where its voice no more stands clearly over the room. The end of a last word dies away further, and is
heard as long as the average of some frames lies over that of the pause: noise moves by some tenths of a dB in a tenth of a
second, and what dies away does nothing but fall. What comes up again is another sound, not the ending.

Where the room is loud it hides the rest of an ending: at OVER over the room it is HIDDEN under it, and goes on falling as it
did, until it is INAUDIBLE under the loud parts of its phrase. There marks are led to that, and pauses close later. O(n) in
frames; spans are frames of 10 ms.
"""

from __future__ import annotations

import numpy as np

from nivelus.core.marks.features import Features, smooth
from nivelus.core.marks.kernel import ranked
from nivelus.core.marks.mark import Span
from nivelus.core.measure.filters import FloatArray

OVER, LONG, SHORT, REACH = 0.8, 11, 5, 80
"""dB over the room of the pause; frames that are averaged, from a frame on: both have to lie over it; and how far after the
mark an ending goes at most."""
RISE = 1.0
"""dB that it may come up again."""
AFTER, BEFORE_NEXT = 5, 12
"""Frames after a phrase and before the next that tell nothing of the pause between them."""
LEAST_PAUSE, KEEP_AWAY = 12, 8
MOVES = 0.55
"""dB between the quarter and the half of a pause: the noise of a room moves less."""
LOUD_ROOM = 26.0
"""dB of the phrases over the room up to which marks are led to where endings end."""
HIDDEN, INAUDIBLE, LONGEST_HIDDEN = 7.0, 40.0, 40
"""dB that an ending falls from the end of its phrase (as loud as the room) to where it is OVER over it, dB under the loud parts
of its phrase where nobody hears it any more, and the most frames that it goes on in between."""
HIDES, HOLD = 34.0, 30
"""dB over the room of a phrase up to which its pause stays open for so many frames, whatever is seen of an ending."""


def with_endings(f: Features, spans: list[Span]) -> list[Span]:
    """Phrases that end where their endings do, if the room is so loud that they seem to end before."""
    if not spans or float(np.median([_stands(f, span) for span in spans])) > LOUD_ROOM:
        return spans
    out = []
    for span, end, after in zip(spans, endings(f, spans, steady=True), _following(f, spans), strict=True):
        out.append((span[0], min(end + _hidden(f, span, end), (end + after) // 2)))
    return out


def closings(f: Features, spans: list[Span]) -> list[int]:
    """For each phrase the frame from which on its pause may close: its ending, and later where the room hides that."""
    out = []
    for span, end, after in zip(spans, endings(f, spans), _following(f, spans), strict=True):
        held = min(span[1] + HOLD, span[1] + (after - span[1]) // 3) if _stands(f, span) < HIDES else end
        out.append(max(end, held, min(end + _hidden(f, span, end), (end + after) // 2)))
    return out


def _hidden(f: Features, span: Span, end: int) -> int:
    """How many frames an ending goes on under the room, if it goes on falling as it did from the end of its phrase on."""
    left = INAUDIBLE - HIDDEN - _stands(f, span)
    return int(min(max(left, 0.0) * (end - span[1]) / HIDDEN, LONGEST_HIDDEN))


def endings(f: Features, spans: list[Span], steady: bool = False) -> list[int]:
    """For each phrase the frame at which its ending has come down to the room; its own end where that cannot be told.

    ``steady`` looks only at pauses in which nothing moves but the noise of a room.
    """
    over = _average_from(f)
    out = []
    for (_, end), after in zip(spans, _following(f, spans), strict=True):
        out.append(end if steady and f.unrest[end - 1] > 0 else _ending(over, end, after, steady))
    return out


def _stands(f: Features, span: Span) -> float:
    a, b = span
    return ranked(f.level[a:b] - f.floor[a:b], 80)


def _following(f: Features, spans: list[Span]) -> list[int]:
    return [*(a for a, _ in spans[1:]), len(f.level)][: len(spans)]


def _average_from(f: Features) -> FloatArray:
    """How far the frames from each on stand over the room, dB: the lower one of two averages."""
    power: FloatArray = 10 ** ((f.level - f.floor) / 10)
    both = [np.roll(smooth(power, frames), -(frames // 2)) for frames in (LONG, SHORT)]
    return np.asarray(10 * np.log10(np.minimum(*both)))


def _ending(over: FloatArray, end: int, following: int, steady: bool) -> int:
    pause = over[end + AFTER : following - BEFORE_NEXT]
    if len(pause) < LEAST_PAUSE:
        return end
    # an ending may fill half of a short pause
    room = ranked(pause, 25)
    moves = ranked(pause, 50) - room
    if steady and moves > MOVES:
        return end
    least = room + max(OVER, moves)
    last = max(end, min(following - KEEP_AWAY, end + REACH, len(over) - LONG))
    at, lowest = end, np.inf
    while at < last and least < over[at] < lowest + RISE:
        lowest = min(lowest, over[at])
        at += 1
    # what comes up again before it was down is no ending
    return at if at == last or over[at] <= least else end
