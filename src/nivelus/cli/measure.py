"""Measuring a file, and finding what is in it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from nivelus.cli.options import (
    app,
    as_json,
    as_sound,
    channel,
    finite,
    number,
    plain,
    print_json,
    sound_file,
    sound_track,
    time,
    travel_light,
)
from nivelus.cli.ruled import of_rule
from nivelus.core.kinds import GAP, KINDS, OF_NAME, listed
from nivelus.core.rule import DEFAULT
from nivelus.core.sound_formats import every_format

_FILE = f"FILE is a sound file: {every_format('or')}."


@app.command(help=f"Measure the loudness and peaks of a file.\n\n{_FILE}")
@sound_file
@sound_track
@channel
@as_json
def measure(file: Path, sound_track: int | None, channel: int | None, as_json: bool) -> None:
    """Measure the loudness and peaks of a file."""
    travel_light()
    from nivelus.core.measure.grid import measure_file
    from nivelus.core.measure.loudness import figures

    with as_sound(file, sound_track, channel) as sound:
        _, grid, _ = measure_file(sound)
    result = {
        "duration": grid.duration,
        "sample_rate": grid.sample_rate,
        "channels": grid.channels,
        **plain(figures(grid)),
    }
    if as_json:
        print_json(result)
        return
    units = {"integrated": "LUFS", "loudness_range": "LU", "momentary_max": "LUFS", "short_term_max": "LUFS"}
    units |= {"true_peak": "dBTP", "sample_peak": "dBFS", "rms": "dBFS", "duration": "s", "sample_rate": "Hz"}
    for name, value in result.items():
        shown = value if isinstance(value, int) else number(value)
        print(f"{name.replace('_', ' '):16} {shown:>10} {units.get(name, '')}".rstrip())


@app.command(help=f"Find the phrases, {listed()} of a file.\n\n{_FILE}")
@sound_file
@sound_track
@channel
@of_rule("longest")
@as_json
def marks(file: Path, sound_track: int | None, channel: int | None, longest: float | None, as_json: bool) -> None:
    """Find the phrases and details of a file."""
    travel_light()
    from nivelus.core.marks.details import find_marks
    from nivelus.core.measure.grid import measure_file
    from nivelus.core.measure.spans import span_levels

    with as_sound(file, sound_track, channel) as sound:
        _, grid, _ = measure_file(sound)
    found = find_marks(grid, longest or DEFAULT.phrases.longest)
    phrases = []
    for mark in found.phrases.phrases:
        levels = span_levels(grid, mark.start, mark.end)
        phrases.append(
            {
                "start": round(mark.start, 3),
                "end": round(mark.end, 3),
                "loudness": finite(levels.loudness),
                "rms": finite(levels.rms),
                "peak": finite(levels.sample_peak),
                "confidence": round(mark.confidence, 3),
            }
        )
    room = found.phrases.room_tone
    details = {kind.plural: [_mark(mark) for mark in found.of(kind.name)] for kind in KINDS}
    if not found.shows_esses:
        print(f"“{file.name}” cannot show esses: it holds nothing as high as they are.", file=sys.stderr)
    if as_json:
        cannot = {} if found.shows_esses else {"cannot_show": ["esses"]}
        print_json({"room_tone": finite(room), "phrases": phrases, **details, **cannot})
        return
    counts = ", ".join(f"{len(marks)} {name}" for name, marks in details.items())
    print(f"{len(phrases)} phrases, {counts}, room tone {number(room)} dBFS")
    lines = [
        (p.start, p.end, "phrase", f"{number(about['loudness']):>7} LUFS")
        for p, about in zip(found.phrases.phrases, phrases, strict=True)
    ]
    for detail in found.details:
        shown = f"{detail.level:7.1f} dBFS"
        shown += f"  stands out by {detail.excess:+.1f} dB" if detail.excess is not None else ""
        shown += "  in doubt" if detail.is_doubtful else ""
        lines.append((detail.start, detail.end, detail.kind, shown + "".join(f"  {what}" for what in detail.holds)))
    for start, end, kind, shown in sorted(lines):
        print(f"{time(start)} - {time(end)}  {kind:7} {shown}")


def _mark(mark: Any) -> dict[str, Any]:
    """A mark as JSON values: its kind is said by the list that it is in."""
    out: dict[str, Any] = {
        "start": round(mark.start, 3),
        "end": round(mark.end, 3),
        "level": finite(mark.level),
        "confidence": round(mark.confidence, 3),
    }
    if OF_NAME[mark.kind].against == "usual":
        out["excess"] = None if mark.excess is None else finite(mark.excess)
    if mark.kind == GAP.name:
        out["holds"] = list(mark.holds)
    return out
