"""Gain curves as CSV: a line for each point, ``seconds,dB`` and, where it is not linear, the shape of the way on.

Comma, semicolon or tab part the fields; with a semicolon or tab a decimal comma is read as well. A first line of words is
a heading. ``-inf`` is silence. Times are written in whole microseconds, gains to a ten thousandth of a dB.
"""

from __future__ import annotations

import csv
import io

import numpy as np

from nivelus.core.errors import CurveFileError
from nivelus.core.gain.curves import Curve, Shape, curve_of, whole_shapes

HEADING = ("seconds", "dB", "shape")
MOST_POINTS = 1_000_000
RANGE = (-200.0, 60.0)
"""dB that a gain may have, besides silence."""


def write_csv(curve: Curve) -> bytes:
    """A curve as CSV in UTF-8."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(HEADING)
    plain = whole_shapes(curve)
    for at, db, shape in zip(plain.at.tolist(), plain.db.tolist(), plain.shape.tolist(), strict=True):
        gain = "-inf" if np.isneginf(db) else f"{db + 0.0:.4f}"
        writer.writerow((f"{at:.6f}", gain, Shape(shape).name.lower()))
    return out.getvalue().encode()


def read_csv(data: bytes) -> Curve:
    """A curve from CSV.

    Raises
    ------
    CurveFileError
        If a line holds no point, or there is none at all.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise CurveFileError("This is no text file: a curve is a line of seconds,dB for each point.") from None
    delimiter = next((mark for mark in ("\t", ";") if mark in text), ",")
    points: list[tuple[float, float, Shape]] = []
    try:
        rows = list(csv.reader(io.StringIO(text, newline=None), delimiter=delimiter))
    except csv.Error:
        raise CurveFileError("This is no table: a curve is a line of seconds,dB for each point.") from None
    for number, row in enumerate(rows, 1):
        fields = [field.strip() for field in row]
        if not any(fields):
            continue
        if number == 1 and not _is_number(fields[0], delimiter):
            continue
        if len(fields) < 2 or not all(_is_number(field, delimiter) for field in fields[:2]):
            raise CurveFileError(f"Line {number} holds no point: two numbers are needed, seconds and dB.")
        at, db = (_number(field, delimiter) for field in fields[:2])
        if not 0 <= at < 1e6:
            raise CurveFileError(f"Line {number}: {at:g} is no time within a recording, in seconds.")
        if not (np.isneginf(db) or RANGE[0] <= db <= RANGE[1]):
            raise CurveFileError(f"Line {number}: {db:g} is no gain in dB that could be meant.")
        name = fields[2].upper() if len(fields) > 2 and fields[2] else "LINEAR"
        if name not in Shape.__members__:
            raise CurveFileError(f"Line {number}: a shape is linear, smooth or hold.")
        points.append((at, db, Shape[name]))
        if len(points) > MOST_POINTS:
            raise CurveFileError(f"The file holds more than {MOST_POINTS} points.")
    if not points:
        raise CurveFileError("The file holds no points: a curve is a line of seconds,dB for each point.")
    return curve_of(points)


def _number(field: str, delimiter: str) -> float:
    return float(field.replace(",", ".") if delimiter != "," else field)


def _is_number(field: str, delimiter: str) -> bool:
    try:
        return not np.isnan(_number(field, delimiter))
    except ValueError:
        return False
