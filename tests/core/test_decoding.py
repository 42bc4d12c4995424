"""What libsndfile does not read: decoded by itself, at the right time, and harmless whatever it is.

Times and samples are compared with what Debian's ffmpeg decodes by itself.
"""

from __future__ import annotations

import itertools
import json
import struct
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from nivelus.core.errors import Cancelled, EmptySound, NotSound, SoundError, TruncatedSound, UndecidedSound, UnfitSound
from nivelus.core.measure.along import MeasuredAlong
from nivelus.core.measure.grid import measure_file
from nivelus.core.sound import decoding
from nivelus.core.sound.decoding import as_read, decode
from nivelus.core.sound.reader import SoundReader
from tests.conftest import RATE, detailed_voice, hum, uneven_voice, write_sound
from tests.helpers.media import as_ffmpeg_decodes, encoded, ffmpeg, filmed

CLICKS = np.arange(1, 6) * RATE


@pytest.fixture
def clicks(tmp_path: Path) -> Path:
    """A click at every second from the first to the fifth."""
    samples = np.zeros(6 * RATE)
    samples[CLICKS] = 0.9
    return write_sound(tmp_path / "clicks.wav", samples, subtype="PCM_16")


def heard(path: Path, tmp_path: Path, track: int | None = None) -> np.ndarray:
    """The first channel of a file as it is decoded."""
    target = tmp_path / "decoded.wav"
    decode(path, target, track=track)
    return soundfile.read(target, always_2d=True, dtype="float32")[0][:, 0]


def where(samples: np.ndarray) -> list[int]:
    """Where the clicks are: the largest sample of every second around one."""
    return [int(np.argmax(np.abs(samples[at - RATE // 2 : at + RATE // 2]))) + at - RATE // 2 for at in CLICKS.tolist()]


@pytest.mark.parametrize("name", ["a.m4a", "a.mp4", "a.mov", "a.mkv", "a.webm"])
def test_a_click_lies_where_ffmpeg_decodes_it(name: str, clicks: Path, tmp_path: Path) -> None:
    path = tmp_path / name
    if name == "a.m4a":
        encoded(clicks, path)
    else:
        filmed(clicks, path, video="libvpx" if name == "a.webm" else "mpeg4")
    ours, theirs = heard(path, tmp_path), as_ffmpeg_decodes(path)
    assert where(ours) == where(theirs)
    assert len(ours) == len(theirs)
    assert np.abs(ours - theirs).max() < 1e-4


@pytest.mark.parametrize(("name", "within"), [("late.mp4", 1), ("late.mkv", RATE // 1000)])
def test_sound_that_begins_later_than_the_pictures_lies_later(name: str, within: int, clicks: Path, tmp_path: Path) -> None:
    # Matroska tells times in milliseconds; so does MP4 unless it is asked for more
    finely = ("-movie_timescale", str(RATE)) if name == "late.mp4" else ()
    ours = heard(filmed(clicks, tmp_path / name, *finely, late=0.5), tmp_path)
    at = np.flatnonzero(np.abs(ours) > 0.4)
    first = [int(at[0]), *(int(b) for a, b in itertools.pairwise(at) if b - a > RATE // 2)]
    assert np.abs(np.array(first) - (CLICKS + RATE // 2)).max() <= within


def test_silence_stands_in_a_hole(clicks: Path, tmp_path: Path) -> None:
    whole = encoded(clicks, tmp_path / "whole.mka")
    holed = tmp_path / "holed.mka"
    ffmpeg("-i", whole, "-c", "copy", "-bsf:a", "noise=drop=between(n\\,117\\,164)", holed)
    ours, entire = heard(holed, tmp_path), heard(whole, tmp_path)
    assert len(ours) == pytest.approx(len(entire), abs=RATE // 500)
    near = {round((at - 1024) / RATE): at for at in np.flatnonzero(np.abs(ours) > 0.4)}
    assert sorted(near) == [1, 2, 4, 5]
    assert all(abs(at - 1024 - second * RATE) <= RATE // 500 for second, at in near.items())


@pytest.mark.parametrize(
    ("coding", "subtype"), [("pcm_s16le", "PCM_16"), ("pcm_s24le", "PCM_24"), ("pcm_s32le", "PCM_32"), ("pcm_f32le", "FLOAT")]
)
def test_samples_are_kept_as_they_are(coding: str, subtype: str, tmp_path: Path) -> None:
    source = write_sound(tmp_path / "v.wav", np.column_stack([hum(-20, 1.0), hum(-26, 1.0, seed=3)]), subtype="DOUBLE")
    film = tmp_path / "v.mov"
    ffmpeg("-i", source, "-c:a", coding, film)
    plain = tmp_path / "plain.wav"
    ffmpeg("-i", film, "-c:a", coding, plain)
    target = tmp_path / "out.wav"
    decode(film, target)
    assert soundfile.info(target).subtype == subtype
    ours, theirs = (soundfile.read(path, dtype="float64", always_2d=True)[0] for path in (target, plain))
    assert np.array_equal(ours, theirs)


@pytest.mark.parametrize("coding", ["pcm_s16le", "pcm_s24le", "pcm_s32le", "pcm_f32le"])
def test_what_is_measured_while_it_is_decoded_is_what_is_measured_after(coding: str, tmp_path: Path) -> None:
    source = write_sound(tmp_path / "v.wav", np.tile(detailed_voice(), 12), subtype="FLOAT")
    film, target = tmp_path / "v.mov", tmp_path / "out.wav"
    ffmpeg("-i", source, "-c:a", coding, film)
    with MeasuredAlong("v") as along:
        decode(film, target, along=along.take)
        grid, wave = along.result()
    _, after, wave_after = measure_file(target)
    assert np.array_equal(grid.data, after.data)
    assert np.array_equal(wave, wave_after)
    assert (grid.sample_rate, grid.samples, grid.channels) == (after.sample_rate, after.samples, after.channels)


def test_several_sound_tracks_are_a_choice(clicks: Path, tmp_path: Path) -> None:
    voice = write_sound(tmp_path / "voice.wav", uneven_voice())
    film = tmp_path / "two.mkv"
    said = ("-metadata:s:a:0", "language=eng", "-metadata:s:a:0", "title=<b>Music\x07</b>", "-disposition:a:1", "default")
    ffmpeg("-i", clicks, "-i", voice, "-map", "0:a", "-map", "1:a", "-c:a", "flac", "-disposition:a:0", "0", *said, film)
    target = tmp_path / "out.wav"
    with pytest.raises(UndecidedSound) as refusal:
        decode(film, target)
    assert refusal.value.fields["options"] == ["1 · <b>Music</b> · eng · mono, flac", "2 · mono, flac"]
    assert refusal.value.fields["usual"] == 1
    assert not target.exists()
    for track, source in enumerate((clicks, voice)):
        decode(film, target, track=track)
        assert np.array_equal(soundfile.read(target)[0], soundfile.read(source)[0])
    told: list[str] = []
    with as_read(film, told=told.append) as sound:
        assert np.array_equal(soundfile.read(sound)[0], soundfile.read(voice)[0])
    assert told == ["“two.mkv” has 2 sound tracks. This one is read: 2 · mono, flac."]
    assert not sound.exists()


# --- what is no sound, and what is meant to do harm


def renamed(path: Path, old: bytes, new: bytes) -> Path:
    """A file with some bytes in place of others."""
    target = path.with_name(f"other {path.name}")
    data = path.read_bytes()
    assert old in data
    target.write_bytes(data.replace(old, new))
    return target


def test_a_copy_that_is_protected_is_said_to_be(clicks: Path, tmp_path: Path) -> None:
    memo = encoded(clicks, tmp_path / "memo.m4a")
    for coding in (b"enca", b"drms"):
        with pytest.raises(NotSound, match="copy-protected"):
            decode(renamed(memo, b"mp4a", coding), tmp_path / "out.wav")


def test_a_video_without_sound_is_said_to_have_none(tmp_path: Path) -> None:
    film = tmp_path / "mute.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc=d=1:s=64x64", "-c:v", "mpeg4", film)
    with pytest.raises(NotSound, match="has no sound in it"):
        decode(film, tmp_path / "out.wav")


def test_what_a_file_claims_does_not_make_it_longer(clicks: Path, tmp_path: Path) -> None:
    memo = encoded(clicks, tmp_path / "memo.m4a")
    data = bytearray(memo.read_bytes())
    # the length of the track, in its media header (ISO/IEC 14496-12)
    at = data.index(b"mdhd") + 4
    rate, length = struct.unpack(">II", data[at + 12 : at + 20])
    assert (rate, round(length / rate)) == (RATE, 6)
    data[at + 16 : at + 20] = struct.pack(">I", 0x7FFFFFFF)
    (tmp_path / "liar.m4a").write_bytes(data)
    assert np.array_equal(heard(tmp_path / "liar.m4a", tmp_path), heard(memo, tmp_path))


@pytest.mark.parametrize("first", ["faststart", "empty_moov+frag_keyframe"])
def test_what_was_not_copied_whole_is_said_to_be_cut_short(first: str, clicks: Path, tmp_path: Path) -> None:
    memo = encoded(clicks, tmp_path / "memo.m4a", "-movflags", first)
    (tmp_path / "half.m4a").write_bytes(memo.read_bytes()[: memo.stat().st_size * 2 // 3])
    with pytest.raises(TruncatedSound, match=r"breaks off at \d\.\d s of 6\.0 s"):
        decode(tmp_path / "half.m4a", tmp_path / "out.wav")
    assert not (tmp_path / "out.wav").exists()
    (tmp_path / "none.m4a").write_bytes(encoded(clicks, memo).read_bytes()[:1000])
    with pytest.raises(NotSound):
        decode(tmp_path / "none.m4a", tmp_path / "no.wav")


@pytest.mark.parametrize(
    "text",
    [
        "#EXTM3U\n#EXTINF:6,\n{}\n#EXT-X-ENDLIST\n",
        "ffconcat version 1.0\nfile '{}'\n",
        "v=0\nc=IN IP4 127.0.0.1\nm=audio 5004 RTP/AVP 0\n{}",
        '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY y SYSTEM "file://{}">]><MPD>&y;</MPD>',
        "",
        "hello\n" * 1000,
    ],
)
def test_a_list_that_leads_elsewhere_leads_nowhere(text: str, clicks: Path, tmp_path: Path) -> None:
    for name in ("list.m3u8", "list.mp4"):
        (tmp_path / name).write_text(text.format(clicks))
        with pytest.raises(NotSound, match="not a sound file that can be read"):
            decode(tmp_path / name, tmp_path / "out.wav")


def test_attachments_and_subtitles_with_markup_do_no_harm(clicks: Path, tmp_path: Path) -> None:
    (tmp_path / "s.srt").write_text("1\n00:00:01,000 --> 00:00:02,000\n<script>alert(1)</script>{\\an8}\n")
    (tmp_path / "x.ttf").write_bytes(b"\0" * 100_000)
    film = tmp_path / "full.mkv"
    attached = ("-attach", tmp_path / "x.ttf", "-metadata:s:t", "mimetype=application/x-truetype-font")
    ffmpeg("-i", clicks, "-i", tmp_path / "s.srt", *attached, "-c:a", "flac", "-c:s", "srt", film)
    assert where(heard(film, tmp_path)) == CLICKS.tolist()


def element(id: int, body: bytes) -> bytes:
    """An element of Matroska (RFC 8794), its length in eight bytes."""
    return id.to_bytes((id.bit_length() + 7) // 8, "big") + (len(body) | 1 << 56).to_bytes(8, "big") + body


@pytest.mark.parametrize(
    ("count", "why"),
    [
        (1, "has no sound|holds no samples"),
        (65, "has more than 64 sound tracks"),
        (100_000, "is not a sound file|more than 64"),
    ],
)
def test_a_hundred_thousand_tracks_are_too_many(count: int, why: str, tmp_path: Path) -> None:
    head = element(0x1A45DFA3, element(0x4282, b"matroska") + element(0x4287, b"\x04") + element(0x4285, b"\x02"))

    def track(number: int) -> bytes:
        sound = element(0xE1, element(0xB5, struct.pack(">d", 48_000.0)) + element(0x9F, b"\x01") + element(0x6264, b"\x10"))
        said = element(0xD7, number.to_bytes(3, "big")) + element(0x73C5, number.to_bytes(3, "big"))
        return element(0xAE, said + element(0x83, b"\x02") + element(0x86, b"A_PCM/INT/LIT") + sound)

    tracks = element(0x1654AE6B, b"".join(track(number) for number in range(1, count + 1)))
    path = tmp_path / "many.mkv"
    info, cluster = element(0x1549A966, element(0x2AD7B1, b"\x0f\x42\x40")), element(0x1F43B675, element(0xE7, b"\0"))
    path.write_bytes(head + element(0x18538067, info + tracks + cluster))
    with pytest.raises(SoundError, match=why):
        decode(path, tmp_path / "out.wav", track=0)


@pytest.mark.parametrize("seed", range(20))
def test_damaged_bytes_are_told_of_or_heard_as_silence(seed: int, clicks: Path, tmp_path: Path) -> None:
    random = np.random.default_rng(seed)
    suffix = [".m4a", ".mka", ".wma", ".ts"][seed % 4]
    data = bytearray(encoded(clicks, tmp_path / f"a{suffix}").read_bytes())
    for at in random.integers(0, len(data), 200):
        data[at] = random.integers(256)
    path = tmp_path / f"b{suffix}"
    path.write_bytes(data)
    target = tmp_path / "out.wav"
    said = ""
    try:
        decode(path, target)
    except SoundError as error:
        said = error.sentence
    assert target.exists() == (not said)
    if said:
        assert said.startswith(f"“b{suffix}”")
    else:
        with SoundReader(target) as reader:
            assert reader.info.frames > 0


def test_a_decoder_may_open_and_write_nothing(tmp_path: Path) -> None:
    source = """
import os, socket
from nivelus.core.sound.decoder import confine
confine()
for act in (lambda: open("/etc/hostname"), lambda: open("x", "w"), socket.socket, lambda: os.write(0, b"x")):
    try:
        act()
    except OSError:
        continue
    raise SystemExit(f"{act} worked")
print("nothing")
"""
    (tmp_path / "own").write_bytes(b"abc")
    with (tmp_path / "own").open("r+b") as own:
        done = subprocess.run([sys.executable, "-c", source], stdin=own, capture_output=True, text=True, cwd=tmp_path)
    assert done.stdout == "nothing\n", done.stderr
    assert (tmp_path / "own").read_bytes() == b"abc"
    assert not (tmp_path / "x").exists()


POPEN = subprocess.Popen


def told_by(script: str, monkeypatch: pytest.MonkeyPatch, clicks: Path, target: Path) -> None:
    """Decode with a program in place of the decoder."""
    monkeypatch.setattr(subprocess, "Popen", lambda _, **more: POPEN([sys.executable, "-c", script], **more))
    decode(clicks, target)


def test_a_decoder_that_dies_falls_silent_or_tells_nonsense_leaves_nothing(
    clicks: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = tmp_path / "out.wav"

    def message(letter: str, body: dict[str, object] | bytes) -> str:
        data = body if isinstance(body, bytes) else json.dumps(body).encode()
        return f"sys.stdout.buffer.write({letter.encode() + struct.pack('<I', len(data)) + data!r});"

    one = {"channels": 1, "codec": "x", "language": "", "title": "", "usual": True, "tags": {}}
    start = "import sys, time;" + message("I", {"format": "mov", "sounds": [one], "tags": {}, "chapters": []})
    form = message("F", {"rate": RATE, "channels": 1, "coding": "s16", "names": ["mono"]})
    some = message("S", b"\1\0" * 1000)
    with monkeypatch.context() as patch:
        for script in ("", "import sys; sys.exit(3)", start, start + form, start + form + some, "print('A' * 100000)"):
            with pytest.raises(SoundError):
                told_by(script, patch, clicks, target)
        with pytest.raises(EmptySound):
            told_by(start + message("E", b"empty"), patch, clicks, target)
        with pytest.raises(UnfitSound, match="longer than a day"):
            told_by(start + form + message("E", b"long"), patch, clicks, target)
        patch.setattr(decoding, "_SILENT_SECONDS", 0.3)
        with pytest.raises(SoundError):
            told_by(start + form + some + "sys.stdout.flush(); time.sleep(60)", patch, clicks, target)
    assert list(tmp_path.iterdir()) == [clicks]


def test_one_who_stops_leaves_nothing_and_nobody(clicks: Path, tmp_path: Path) -> None:
    memo = encoded(clicks, tmp_path / "memo.m4a")
    begun: list[Any] = []

    def noted(*given: Any, **more: Any) -> Any:
        begun.append(POPEN(*given, **more))
        return begun[-1]

    def stop(share: float) -> None:
        raise Cancelled("Stopped.")

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(subprocess, "Popen", noted)
        with pytest.raises(Cancelled):
            decode(memo, tmp_path / "out.wav", progress=stop)
    assert [process.poll() is not None for process in begun] == [True]
    assert not (tmp_path / "out.wav").exists()


def test_a_day_of_silence_is_not_made_of_what_a_file_claims(clicks: Path, tmp_path: Path) -> None:
    path = encoded(clicks, tmp_path / "a.mka")
    ffmpeg("-i", path, "-c", "copy", "-bsf:a", "setts=pts=if(gt(N\\,100)\\,PTS+604800000\\,PTS)", tmp_path / "b.mka")
    with pytest.raises(UnfitSound, match="longer than a day"):
        heard(tmp_path / "b.mka", tmp_path)
