"""Phrases: where the voice is, found against a room tone that is followed over time.

The idea, in the order it is done
---------------------------------
1. *Islands* are stretches that stand over the room: in all voice bands together, in the vowel band with the balance of
   a voice, or in the highest band alone (a faint ess).
2. An island is *voice* if it has pitch, see ``core.measure.pitch``: a call, a laugh, a held note. Or if it holds vowels:
   well over the room in the vowel band, with more there than in the consonant bands. A breath has as much above as
   below and no pitch, and is none, however loud. An open vowel has hardly more below than above, but what is above ends
   where air goes on; where no high band shows that, it is as loud as the voice around.
3. Consonants without a vowel (a t after its closure, an ess at the end) are taken in by the voice beside them, so that
   soft beginnings and endings are not eaten. A tick of one or two frames must stand closer than a burst. The release of
   a closure sets in at once and belongs to the word before it; a breath swells.
4. A pause counts by its depth and its length together, and by how far the levels on both sides differ: what is quieter by
   12 dB after 0.2 s of silence is another phrase, a closure inside a word is none. In a noisy room the soft parts of a
   phrase drown, so there a longer pause joins too if something other than room tone stands in it.
5. Breaths that begin where the voice ends, or end where it begins, are taken away: see ``core.marks.attached``.
6. What is longer than a breath lasts is divided at its best pauses.
7. In a loud room phrases are led to where their endings have come down to it: see ``core.marks.endings``.

Thresholds are in dB over the room and in frames of 10 ms. They were chosen on labelled synthetic programmes and on
programmes of real voices (see ``bench/marks.py``); how pauses weigh was fitted by logistic regression on both. O(n) in frames.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from nivelus.core.marks.attached import without_breaths
from nivelus.core.marks.endings import with_endings
from nivelus.core.marks.features import Features, features, smooth
from nivelus.core.marks.islands import find_islands
from nivelus.core.marks.kernel import ranked, runs
from nivelus.core.marks.pauses import EDGE, LONGEST_PHRASE, divide, join_islands
from nivelus.core.marks.room import BESIDE, LOWEST, is_room
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.loudness import power_to_db

SHORTEST_FRAMES, SCRAP_REACH = 15, 40
"""Frames of the shortest phrase, and within which what is shorter goes with the phrase beside it."""


@dataclass(frozen=True, slots=True)
class PhraseMark:
    """A found phrase: ``start`` and ``end`` in seconds, ``confidence`` 0 ... 1 (how far it stands out of the room)."""

    start: float
    end: float
    confidence: float


@dataclass(frozen=True, slots=True)
class PhraseMarks:
    """The phrases of a recording, the cells they are cut into, and the room.

    ``cuts`` are seconds, one between each two phrases; ``room_tone`` is the RMS level of the pauses in dBFS.
    """

    phrases: tuple[PhraseMark, ...]
    cuts: tuple[float, ...]
    room_tone: float


def find_phrases(grid: LevelGrid, f: Features | None = None, longest: float = LONGEST_PHRASE) -> PhraseMarks:
    """Find the phrases of a recording and the quietest spot of each pause.

    A recording without any voice has no phrases; its room tone is then that of the whole. ``f`` are the features of the
    grid, for those who have them. A phrase of more than ``longest`` seconds is divided if there is a pause in it.
    """
    f = f or features(grid)
    over = f.level - f.floor
    joined = join_islands(find_islands(f), f, grid.column("k"), over)
    voices = [part for span in _trim(joined, over) for part in without_breaths(f, span)]
    spans = [part for span in _trim(voices, over) for part in divide(f, over, span, longest / FRAME)]
    spans = _without_scraps(spans)
    spans = with_endings(f, spans)
    marks = tuple(
        PhraseMark(a * FRAME, min(b * FRAME, grid.duration), float(np.clip(ranked(over[a:b], 80) / 24.0, 0.0, 1.0)))
        for a, b in spans
    )
    cuts = tuple(_quietest(f, left[1], right[0]) * FRAME for left, right in pairwise(spans))
    return PhraseMarks(marks, cuts, room_tone(grid, room_frames(grid, spans)))


def room_frames(grid: LevelGrid, spans: list[tuple[int, int]]) -> npt.NDArray[np.bool_]:
    """Which frames are room in the pauses between spans of frames, in order, (frames,); see ``core.marks.room``."""
    plain = np.asarray(grid.column("plain"), np.float64)
    out = np.zeros(len(plain), bool)
    for left, right in pairwise([(0, -BESIDE), *spans, (len(plain) + BESIDE, 0)]):
        pause = slice(left[1] + BESIDE, right[0] - BESIDE)
        if pause.stop > pause.start:
            out[pause] = is_room(plain[pause])
    return out


def room_tone(grid: LevelGrid, rooms: npt.NDArray[np.bool_], gain: FloatArray | None = None) -> float:
    """Median RMS level, dBFS, of the frames that are ``rooms``, (frames,); LOWEST for digital silence.

    ``gain`` (frames, 2) is that of ``core.gain.compiled.frame_gain``; none if not given.
    """
    plain = np.asarray(grid.column("plain"), np.float64)
    power = plain if gain is None else plain * gain[:, 0]
    quiet = np.median(power[rooms]) if rooms.sum() >= 10 else np.percentile(power, 5)
    return max(float(power_to_db(quiet)), LOWEST)


def _without_scraps(spans: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Phrases of which none is too short: a syllable that stands alone goes with the phrase beside it, or is none."""
    out: list[tuple[int, int]] = []
    for a, b in spans:
        if out and a - out[-1][1] < SCRAP_REACH and min(b - a, out[-1][1] - out[-1][0]) < SHORTEST_FRAMES:
            out[-1] = (out[-1][0], b)
        else:
            out.append((a, b))
    return [(a, b) for a, b in out if b - a >= SHORTEST_FRAMES]


def _trim(phrases: list[tuple[int, int]], over: FloatArray) -> list[tuple[int, int]]:
    out = []
    for a, b in phrases:
        audible = np.flatnonzero(over[a:b] >= EDGE)
        if len(audible):
            out.append((a + int(audible[0]), a + int(audible[-1]) + 1))
    return out


def _quietest(f: Features, end: int, start: int) -> int:
    """The frame of a pause to cut at: the quietest one before the breath that leads into the next phrase.

    It keeps away from both phrases by 80 ms or a quarter of the pause, so that tails live.
    """
    power: npt.NDArray[np.float64] = 10 ** (f.level[end:start] / 10)
    margin = min(8, (start - end) // 4)
    last = start - end - margin
    swollen = 10 * np.log10(smooth(power, 5)) > f.floor[end:start] + 2.0
    for a, b in reversed(runs(swollen).tolist()):
        if b - a >= 6 and a > 1 and start - end - b < 60:
            last = a
            break
    margin = min(margin, last // 2)
    quiet = smooth(power, 3)[margin : max(last, margin + 1)]
    return end + margin + int(np.argmin(quiet))
