"""Phrases: where the voice is, found against a room tone that is followed over time.

The idea, in the order it is done
---------------------------------
1. *Islands* are stretches that stand over the room: in all voice bands together, in the vowel band with the balance of
   a voice, or in the highest band alone (a faint ess).
2. An island is *voice* if it holds vowels: well over the room in the vowel band, with more there than in the consonant
   bands. A breath has as much above as below and is none, however loud.
3. Consonants without a vowel (a t after its closure, an ess at the end) are taken in by the voice beside them, so that
   soft beginnings and endings are not eaten. A tick of one or two frames must stand closer than a burst.
4. Neighbours with less than 0.27 s between them are one phrase. In a noisy room the soft parts of a phrase drown, so
   there a longer pause joins too if something other than room tone stands in it.

Thresholds are in dB over the room and in frames of 10 ms. They were chosen on labelled synthetic programmes (see
``bench/marks.py``); the pauses they allow are common practice. O(n) in frames.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from nivelus.core.marks.features import LOWEST, Features, features, smooth
from nivelus.core.marks.kernel import ranked, runs
from nivelus.core.measure.filters import FloatArray
from nivelus.core.measure.grid import FRAME, LevelGrid
from nivelus.core.measure.loudness import power_to_db

OPEN, OPEN_VOICED, OPEN_HISS, EDGE = 4.0, 4.0, 5.0, 3.0
VOICE_OVER_ROOM, VOICE_TILT, VOICE_FRAMES = 8.0, 2.5, 4
TICK_FRAMES, DIP_FRAMES = 4, 3
TICK_REACH, BURST_REACH = 3, 12
CONSONANT_FRAMES, CONSONANT_TILT, CONSONANT_SHARP = 7, -5.0, -6.0
BURST_FRAMES = 12
NEAR_FRAMES, NEAR_DROP = 15, 8.0
JOIN_FRAMES, DROWNED_FRAMES = 27, 60
SHORTEST_FRAMES = 15


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


def find_phrases(grid: LevelGrid, f: Features | None = None) -> PhraseMarks:
    """Find the phrases of a recording and the quietest spot of each pause.

    A recording without any voice has no phrases; its room tone is then that of the whole. ``f`` are the features of the
    grid, for those who have them.
    """
    f = f or features(grid)
    over = f.level - f.floor
    spans = _trim(_join(_gather(f), f, over), over)
    spans = [(a, b) for a, b in spans if b - a >= SHORTEST_FRAMES]
    marks = tuple(
        PhraseMark(a * FRAME, min(b * FRAME, grid.duration), float(np.clip(_height(over, a, b) / 24.0, 0.0, 1.0)))
        for a, b in spans
    )
    cuts = tuple(_quietest(f, left[1], right[0]) * FRAME for left, right in pairwise(spans))
    return PhraseMarks(marks, cuts, room_tone(grid, spans))


def room_tone(grid: LevelGrid, spans: list[tuple[int, int]], gain: FloatArray | None = None) -> float:
    """Median RMS level, in dBFS, of the frames at least 0.1 s away from every span of frames; LOWEST for digital silence.

    ``gain`` (frames, 2) is that of ``core.gain.curve.frame_gain``; none if not given.
    """
    free = np.ones(len(grid.data), bool)
    for a, b in spans:
        free[max(0, a - 10) : b + 10] = False
    plain = grid.column("plain") if gain is None else grid.column("plain") * gain[:, 0]
    power = plain[free] if free.sum() >= 10 else plain
    quiet = np.median(power) if free.sum() >= 10 else np.percentile(power, 5)
    return max(float(power_to_db(quiet)), LOWEST)


def _gather(f: Features) -> list[list[int]]:
    """Islands of voice with the consonants that belong to them, in order."""
    mask = (f.level > f.floor + OPEN) | ((f.voiced > OPEN_VOICED) & (f.tilt > 3.0)) | (f.hiss > OPEN_HISS)
    islands: list[list[int]] = []
    for a, b in runs(mask).tolist():
        before = islands[-1] if islands else None
        if before and a - before[1] < DIP_FRAMES and min(b - a, before[1] - before[0]) > TICK_FRAMES:
            before[1] = b
        else:
            islands.append([a, b])
    islands = [island for island in islands if island[1] - island[0] >= 2]
    voice = [_is_voice(f, a, b) for a, b in islands]
    _add_loud_neighbours(f, islands, voice)
    return _take_in_consonants(f, islands, voice)


def _is_voice(f: Features, a: int, b: int) -> bool:
    return int(((f.voiced[a:b] > VOICE_OVER_ROOM) & (f.tilt[a:b] > VOICE_TILT)).sum()) >= VOICE_FRAMES


def _add_loud_neighbours(f: Features, islands: list[list[int]], voice: list[bool]) -> None:
    """What stands close to a voice and is nearly as loud is voice too: no breath is."""
    sure = [i for i, is_voice in enumerate(voice) if is_voice]
    for i, (a, b) in enumerate(islands):
        if voice[i] or b - a <= TICK_FRAMES:
            continue
        at = int(np.searchsorted(sure, i))
        near = [islands[j] for j in sure[max(0, at - 1) : at + 1]]
        near = [other for other in near if max(a - other[1], other[0] - b) < NEAR_FRAMES]
        if near and _height(f.level, a, b, 90) > min(_height(f.level, c, d, 90) for c, d in near) - NEAR_DROP:
            voice[i] = True


def _take_in_consonants(f: Features, islands: list[list[int]], voice: list[bool]) -> list[list[int]]:
    taken = list(voice)

    def belongs(i: int, gap: int) -> bool:
        a, b = islands[i]
        reach = TICK_REACH if b - a <= TICK_FRAMES else BURST_REACH
        short = b - a <= CONSONANT_FRAMES
        unvoiced = float(np.median(f.tilt[a:b])) < CONSONANT_TILT
        # an ess is sharp and a released k is short; a breath that leads into a phrase is neither
        consonant = b - a <= BURST_FRAMES or float(np.median(f.sharp[a:b])) > CONSONANT_SHARP
        return gap <= reach and (short or (unvoiced and consonant))

    phrases = []
    for i, is_voice in enumerate(voice):
        if not is_voice:
            continue
        start, end = islands[i]
        j = i + 1
        while j < len(islands) and not taken[j] and belongs(j, islands[j][0] - end):
            taken[j], end, j = True, islands[j][1], j + 1
        j = i - 1
        while j >= 0 and not taken[j] and belongs(j, start - islands[j][1]):
            taken[j], start, j = True, islands[j][0], j - 1
        phrases.append([start, end])
    return phrases


def _join(phrases: list[list[int]], f: Features, over: FloatArray) -> list[list[int]]:
    joined: list[list[int]] = []
    for phrase in phrases:
        if joined and _are_one(joined[-1], phrase, over):
            joined[-1][1] = max(joined[-1][1], phrase[1])
        else:
            joined.append(list(phrase))
    return joined


def _are_one(left: list[int], right: list[int], over: FloatArray) -> bool:
    gap = right[0] - left[1]
    if gap < JOIN_FRAMES:
        return True
    if gap >= DROWNED_FRAMES:
        return False
    height = min(_height(over, *left), _height(over, *right))
    between = float(over[left[1] + 1 : right[0] - 1].mean())
    return between > 0.4 * height or (gap < 50 and height < 17.0 and between > 2.0)


def _trim(phrases: list[list[int]], over: FloatArray) -> list[tuple[int, int]]:
    out = []
    for a, b in phrases:
        audible = np.flatnonzero(over[a:b] >= EDGE)
        if len(audible):
            out.append((a + int(audible[0]), a + int(audible[-1]) + 1))
    return out


def _height(values: FloatArray, a: int, b: int, share: int = 80) -> float:
    return ranked(values[a:b], share)


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
