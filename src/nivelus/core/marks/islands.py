"""Islands of voice: what stands over the room and is said or sung, with the consonants that belong to it.

Points 1 to 3 of ``core.marks.phrases``. Spans are frames of 10 ms, levels dB over full scale or over the room.
"""

from __future__ import annotations

import numpy as np

from nivelus.core.marks.features import Features
from nivelus.core.marks.kernel import ranked, runs

OPEN, OPEN_VOICED, OPEN_HISS = 4.0, 4.0, 5.0
VOICE_OVER_ROOM, VOICE_TILT, VOICE_FRAMES = 8.0, 2.5, 4
TICK_FRAMES, DIP_FRAMES = 4, 3
TICK_REACH, BURST_REACH = 3, 12
CONSONANT_FRAMES, CONSONANT_TILT, CONSONANT_SHARP = 7, -5.0, -6.0
BURST_FRAMES = 12
OPEN_VOWEL_OVER, OPEN_VOWEL_TILT = 12.0, -4.0
OPEN_VOWEL_SHARP, OPEN_VOWEL_ROOM = -24.0, 28.0
"""An open vowel: dB over the room, tilt and sharpness, and how far the middle band must stand over the room of the high one
for its sharpness to mean anything."""
DULL_TILT, DULL_FRAMES, DULL_REACH, DULL_BODY = -3.0, 20, 5, -3.0
"""An ess in a recording without highs: its tilt, the most frames it lasts and lies apart, and how little body it has (dB);
frames are counted from the vowel on."""
PITCHES, PITCH_OVER = ((0.7, 0.15), (0.6, 0.4)), 6.0
"""From what pitch on how large a share of an island is voice, and dB over the room. Of the labelled breaths of people none
reaches half of that."""
LOUD_OVER, LOUD_UNDER, LOUD_TILT, LOUD_FRAMES = 25.0, 15.0, -5.0, 6
"""Voice without pitch (a shout, a cough): dB over the room and under the voice around, the tilt of what is no air, frames."""
AS_LOUD = 4.0
"""dB under the voice around down to which nothing is a breath."""
RELEASE_REACH, RELEASE_FRAMES, RELEASE_RISE, RELEASE_AT = 14, 25, 8.0, 6
"""Frames from the voice to the release of a closure and how long it lasts; dB that it rises at once, within so many frames."""
NEAR_FRAMES, NEAR_DROP = 15, 8.0


def find_islands(f: Features) -> list[list[int]]:
    """The islands of voice of a recording with the consonants that belong to them, in order."""
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
    voiced, tilt = f.voiced[a:b], f.tilt[a:b]
    vowel = (voiced > VOICE_OVER_ROOM) & (tilt > VOICE_TILT)
    if int(vowel.sum()) >= VOICE_FRAMES or _has_pitch(f, a, b):
        return True
    loud = (f.level[a:b] > f.floor[a:b] + LOUD_OVER) & (f.level[a:b] > f.voice[a:b] - LOUD_UNDER) & (tilt > LOUD_TILT)
    if int(loud.sum()) >= LOUD_FRAMES:
        return True
    if f.highs:
        high_room = f.high[a:b] - f.hiss[a:b]
        dull = (f.sharp[a:b] < OPEN_VOWEL_SHARP) & (f.mid[a:b] > high_room + OPEN_VOWEL_ROOM)
        open_vowel = dull & (tilt > OPEN_VOWEL_TILT)
    else:
        open_vowel = (f.level[a:b] > f.voice[a:b] - AS_LOUD) & (tilt > OPEN_VOWEL_TILT)
    return int((vowel | (open_vowel & (voiced > OPEN_VOWEL_OVER))).sum()) >= VOICE_FRAMES


def _has_pitch(f: Features, a: int, b: int) -> bool:
    stands = f.level[a:b] > f.floor[a:b] + PITCH_OVER
    pitched = [stands & (f.pitch[a:b] > least) for least, _ in PITCHES]
    return any(int(p.sum()) >= VOICE_FRAMES and p.mean() > share for p, (_, share) in zip(pitched, PITCHES, strict=True))


def _add_loud_neighbours(f: Features, islands: list[list[int]], voice: list[bool]) -> None:
    """What stands close to a voice and is nearly as loud is voice too: no breath is."""
    sure = [i for i, is_voice in enumerate(voice) if is_voice]
    for i, (a, b) in enumerate(islands):
        if voice[i] or b - a <= TICK_FRAMES:
            continue
        at = int(np.searchsorted(sure, i))
        near = [islands[j] for j in sure[max(0, at - 1) : at + 1]]
        near = [other for other in near if max(a - other[1], other[0] - b) < NEAR_FRAMES]
        if near and ranked(f.level[a:b], 90) > max(ranked(f.level[c:d], 90) for c, d in near) - NEAR_DROP:
            voice[i] = True


def _take_in_consonants(f: Features, islands: list[list[int]], voice: list[bool]) -> list[list[int]]:
    taken = list(voice)
    lengths = _lengths_of_air(islands, voice)

    def belongs(i: int, gap: int, far: int) -> bool:
        a, b = islands[i]
        reach = TICK_REACH if b - a <= TICK_FRAMES else BURST_REACH
        if gap > reach or b - a <= CONSONANT_FRAMES:
            return gap <= reach
        tilt = float(np.median(f.tilt[a:b]))
        # an ess is sharp and a released k is short; a breath that leads into a phrase is neither
        if f.highs:
            return tilt < CONSONANT_TILT and (b - a <= BURST_FRAMES or float(np.median(f.sharp[a:b])) > CONSONANT_SHARP)
        # without highs an ess is told by how close and how short it is, and by what it lacks in the middle
        near = far <= DULL_FRAMES and gap <= DULL_REACH and lengths[i] <= DULL_FRAMES
        dull = b - a <= BURST_FRAMES or float(np.median(f.body[a:b] - f.level[a:b])) < DULL_BODY
        return tilt < DULL_TILT and (near or dull)

    def follows(i: int, gap: int, far: int) -> bool:
        return belongs(i, gap, far) or (gap <= RELEASE_REACH and _is_release(f, *islands[i]))

    phrases = []
    for i, is_voice in enumerate(voice):
        if not is_voice:
            continue
        start, end = first, last = islands[i]
        j = i + 1
        while j < len(islands) and not taken[j] and follows(j, islands[j][0] - end, islands[j][1] - last):
            taken[j], end, j = True, islands[j][1], j + 1
        j = i - 1
        while j >= 0 and not taken[j] and belongs(j, start - islands[j][1], first - islands[j][0]):
            taken[j], start, j = True, islands[j][0], j - 1
        phrases.append([start, end])
    return phrases


def _lengths_of_air(islands: list[list[int]], voice: list[bool]) -> list[int]:
    """Of each island without a vowel, how long it is together with those close beside it: a breath may fall to pieces."""
    lengths = [b - a for a, b in islands]
    first = 0
    for i in range(len(islands)):
        if voice[i]:
            first = i + 1
        elif i > first and islands[i][0] - islands[i - 1][1] > DULL_REACH:
            first = i
        for j in range(first, i + 1):
            lengths[j] = islands[i][1] - islands[first][0]
    return lengths


def _is_release(f: Features, a: int, b: int) -> bool:
    """Whether an island is what follows a closure: it is there at once, and dies away."""
    if not TICK_FRAMES < b - a <= RELEASE_FRAMES:
        return False
    top = a + int(np.argmax(f.level[a:b]))
    before = float(f.level[max(0, a - 2) : a + 1].min())
    return top - a <= RELEASE_AT and float(f.level[top]) - before >= RELEASE_RISE
