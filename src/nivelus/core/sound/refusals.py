"""What is said of sound that cannot be used, whoever finds it out: a reader, a decoder, or who measures.

``name`` is what the file is called in messages.
"""

from __future__ import annotations

from nivelus.core.errors import EmptySound, NotSound, SilentSound, TruncatedSound, UnfitSound
from nivelus.core.sound_formats import every_format

MAX_CHANNELS, MOST_CHANNELS = 2, 64
"""Of a voice or a bed, and of a file that can be taken apart."""
RATES = (8_000, 192_000)


def not_sound(name: str) -> NotSound:
    """No library knows what it is."""
    return NotSound(f"“{name}” is not a sound file that can be read. {every_format()} are.", file=name)


def no_samples(name: str) -> EmptySound:
    """There is nothing in it."""
    return EmptySound(f"“{name}” holds no samples. Export it again.", file=name)


def silent(name: str) -> SilentSound:
    """Every sample of it is zero."""
    return SilentSound(f"“{name}” is silent from start to end: there is no level to even out.", file=name)


def cut_short(name: str, at: float, length: float) -> TruncatedSound:
    """It ends ``at`` seconds, before the ``length`` that it claims."""
    return TruncatedSound(
        f"“{name}” is cut short: it breaks off at {at:.1f} s of {length:.1f} s. Copy or export it again.", file=name
    )


def too_many(name: str, channels: int) -> UnfitSound:
    """It has so many channels."""
    is_apart = channels <= MOST_CHANNELS
    why = "a voice is mono or stereo. Read one of them with --channel." if is_apart else f"{MOST_CHANNELS} are the most."
    return UnfitSound(f"“{name}” has {channels} channels; {why}", file=name, channels=channels)


def unfit_rate(name: str, rate: int) -> UnfitSound | None:
    """Its sampling rate, Hz, is none that can be worked with; None where it is."""
    if RATES[0] <= rate <= RATES[1]:
        return None
    return UnfitSound(f"“{name}” has a sampling rate of {rate} Hz; 8 to 192 kHz can be used.", file=name, sample_rate=rate)
