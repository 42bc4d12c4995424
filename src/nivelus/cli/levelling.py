"""One file levelled, as the rule says: what is written, and what is told of it."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from nivelus.cli.options import as_sound
from nivelus.cli.telling import (
    followed_told,
    followed_values,
    level_told,
    level_values,
    load_told,
    load_values,
    room_told,
    room_values,
    slow_values,
)
from nivelus.core.deliver.against import level_slowly, make_room
from nivelus.core.deliver.curve_formats import format_of
from nivelus.core.deliver.follow import render_following
from nivelus.core.deliver.level import level_file
from nivelus.core.drafts.from_rule import duck_rule, slow_rule
from nivelus.core.dynamics.compressor import Compressor
from nivelus.core.dynamics.load import compare
from nivelus.core.files import whole_file
from nivelus.core.gain.drawn import Curve
from nivelus.core.sound.timeline import open_sound
from nivelus.core.sound_formats import written_by_name

if TYPE_CHECKING:
    from nivelus.cli.level import Job
    from nivelus.core.deliver.outputs import Output


def level_one(plan: Output, job: Job, drawn: Curve) -> tuple[dict[str, Any], list[str]]:
    """Level a file and write what is planned for it; what became of it as JSON values, and in lines.

    Raises
    ------
    NivelusError
        If the file, or the bed, cannot be used.
    """
    with as_sound(plan.source, job.sound_track, job.channel) as sound:
        return _slowly(plan, job, sound) if job.slow else _by_phrases(plan, job, sound, drawn)


def _slowly(plan: Output, job: Job, sound: Path) -> tuple[dict[str, Any], list[str]]:
    out = job.rule.out
    ridden = level_slowly(sound, plan.sound, slow_rule(job.rule), out.format, out.bits, job.overwrite)
    values = {"input": str(plan.source), "output": str(plan.sound), "slow": slow_values(ridden)}
    line = (
        f"{plan.source} -> {plan.sound}: range {ridden.before:.1f} -> {ridden.after:.1f} LU around "
        f"{ridden.target:.1f} LUFS by a slow ride of {len(ridden.curve)} points"
    )
    return values, [line]


def _by_phrases(plan: Output, job: Job, sound: Path, drawn: Curve) -> tuple[dict[str, Any], list[str]]:
    rule = job.rule
    result = level_file(sound, plan.sound, rule, drawn=drawn, replace_file=job.overwrite)
    more: dict[str, Any] = {}
    lines = level_told(plan, result, rule)
    if plan.curve:
        _write_curve(result.curve, plan.curve, job.overwrite)
    if job.bed:
        mix_kind = (written_by_name(job.mix) if job.mix else None) or "wav"
        with as_sound(job.bed, None) as bed:
            room = make_room(sound, result.state, bed, duck_rule(rule), job.mix, mix_kind, rule.out.bits, job.overwrite)
        more["bed"] = room_values(room, job.mix)
        lines.append(room_told(room, rule.duck.distance if rule.duck.way == "distance" else None, job.mix))
    for follower in job.followers:
        with as_sound(follower.source, None) as other:
            made = render_following(other, follower.sound, result.state, rule.out.format, rule.out.bits, job.overwrite)
        more.setdefault("followers", []).append(followed_values(follower, made))
        lines.append(followed_told(follower, made))
    if job.load:
        work = compare(partial(open_sound, sound), result.state.gain, Compressor(), result.state.clips.phrases)
        more["load"] = load_values(work, Compressor())
        lines.append(load_told(work))
    return level_values(plan, result, rule, more), lines


def _write_curve(curve: Curve, path: Path, replace: bool) -> None:
    """Write a curve beside a rendered file; whole or not at all."""
    data = format_of(path).write(curve)
    with whole_file(path, replace) as part:
        part.write_bytes(data)
