"""Files of telephones, cameras and archives, made by Debian's ffmpeg, and how that decodes them."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import numpy.typing as npt

ENCODED = {
    ".m4a": "-c:a aac",
    ".mp4": "-c:a aac",
    ".mov": "-c:a pcm_s24le",
    ".m4b": "-f ipod -c:a alac",
    ".m4v": "-f mp4 -c:a aac",
    ".3gp": "-c:a aac",
    ".3g2": "-c:a aac",
    ".mkv": "-c:a flac",
    ".webm": "-c:a libopus",
    ".mka": "-c:a aac",
    ".wma": "-c:a wmav2",
    ".wmv": "-f asf -c:a wmav2",
    ".asf": "-c:a wmav1",
    ".avi": "-c:a pcm_s16le",
    ".mxf": "-f mxf_opatom -c:a pcm_s16le",
    ".ts": "-c:a aac",
    ".mts": "-f mpegts -c:a ac3",
    ".m2ts": "-f mpegts -c:a aac",
    ".mpg": "-c:a mp2",
    ".mpeg": "-c:a ac3",
    ".vob": "-c:a ac3",
    ".flv": "-ar 44100 -c:a aac",
    ".opus": "-c:a libopus",
    ".spx": "-ar 32000 -c:a libspeex",
    ".aac": "-f adts -c:a aac",
    ".ac3": "-c:a ac3",
    ".eac3": "-c:a eac3",
    ".dts": "-ac 2 -strict -2 -c:a dca",
    ".caf": "-c:a alac",
    ".w64": "-c:a pcm_s16le",
    ".au": "-c:a pcm_s16be",
    ".snd": "-f au -c:a pcm_mulaw",
    ".wv": "-c:a wavpack",
    ".tta": "-c:a tta",
}
"""How a file with each ending is encoded here."""


def ffmpeg(*arguments: object) -> None:
    """Run ffmpeg."""
    subprocess.run(["ffmpeg", "-v", "error", "-y", *map(str, arguments)], check=True)


def encoded(source: Path, target: Path, *more: str) -> Path:
    """A sound file in the format that the name of ``target`` asks for."""
    ffmpeg("-i", source, *ENCODED[target.suffix].split(), *more, target)
    return target


def filmed(source: Path, target: Path, *more: str, video: str = "mpeg4", late: float = 0.0) -> Path:
    """A video with that sound, which begins later than the pictures by so many seconds."""
    pictures = ("-f", "lavfi", "-i", "testsrc=d=6:s=64x64:r=25", "-itsoffset", str(late))
    coding = "libopus" if target.suffix == ".webm" else "aac"
    ffmpeg(*pictures, "-i", source, *more, "-c:v", video, "-c:a", coding, target)
    return target


def as_ffmpeg_decodes(path: Path, *more: str) -> npt.NDArray[np.float32]:
    """The first channel of a file as ffmpeg decodes it, (n,) float32."""
    command = ["ffmpeg", "-v", "error", "-i", str(path), *more, "-map", "0:a:0", "-af", "pan=mono|c0=c0", "-f", "f32le", "-"]
    done = subprocess.run(command, capture_output=True, check=True)
    return np.frombuffer(done.stdout, "<f4")
