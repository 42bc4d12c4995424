"""Gain curves as CSV: a line for each point, ``seconds,dB`` and, where it is not linear, the shape of the way on.

Comma, semicolon or tab part the fields; with a semicolon or tab a decimal comma is read as well. A first line of words is
a heading. ``-inf`` is silence. Times are written in whole microseconds, gains to a ten thousandth of a dB.
"""

from __future__ import annotations

import csv
import io

import numpy as np
import numpy.typing as npt

from nivelus.core.errors import CurveFileError
from nivelus.core.gain.compiled import FloatArray
from nivelus.core.gain.drawn import Curve, Shape, curve_from, whole_shapes

HEADING = ("seconds", "dB", "shape")
MOST_POINTS = 1_000_000
RANGE = (-200.0, 60.0)
"""dB that a gain may have, besides silence."""


def write_csv(curve: Curve) -> bytes:
    """A curve as CSV in UTF-8."""
    plain = whole_shapes(curve)
    names = {int(shape): shape.name.lower() for shape in Shape}
    gains = ["-inf" if db == -np.inf else f"{db + 0.0:.4f}" for db in plain.db.tolist()]
    rows = zip(plain.at.tolist(), gains, plain.shape.tolist(), strict=True)
    return "".join([",".join(HEADING) + "\n", *(f"{at:.6f},{gain},{names[shape]}\n" for at, gain, shape in rows)]).encode()


def read_csv(data: bytes) -> Curve:
    """A curve from CSV. O(n).

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
    try:
        table = list(csv.reader(io.StringIO(text, newline=None), delimiter=delimiter))
    except csv.Error:
        raise CurveFileError("This is no table: a curve is a line of seconds,dB for each point.") from None
    lines = [number for number, row in enumerate(table, 1) if row and any(field and not field.isspace() for field in row)]
    if lines[:1] == [1] and not _is_number(table[0][0], delimiter):
        lines = lines[1:]
    if not lines:
        raise CurveFileError("The file holds no points: a curve is a line of seconds,dB for each point.")
    if len(lines) > MOST_POINTS:
        raise CurveFileError(f"The file holds more than {MOST_POINTS} points.")
    rows = [table[number - 1] for number in lines]
    at, db = (_numbers(rows, column, lines, delimiter) for column in (0, 1))
    for fault, what in (
        (~((at >= 0) & (at < 1e6)), "{at:g} is no time within a recording, in seconds"),
        (~(np.isneginf(db) | ((db >= RANGE[0]) & (db <= RANGE[1]))), "{db:g} is no gain in dB that could be meant"),
    ):
        if fault.any():
            i = int(fault.argmax())
            raise CurveFileError(f"Line {lines[i]}: {what.format(at=at[i], db=db[i])}.")
    return curve_from(at, db, _shapes(rows, lines))


def _numbers(rows: list[list[str]], column: int, lines: list[int], delimiter: str) -> FloatArray:
    """One column of numbers. Raises CurveFileError naming the first line that has none."""
    try:
        texts = [row[column] for row in rows]
        if delimiter != ",":
            texts = [text.replace(",", ".") for text in texts]
        values = np.array(list(map(float, texts)), np.float64)
        if not np.isnan(values).any():
            return values
    except (IndexError, ValueError):
        pass
    for number, row in zip(lines, rows, strict=True):
        if len(row) < 2 or not all(_is_number(field, delimiter) for field in row[:2]):
            raise CurveFileError(f"Line {number} holds no point: two numbers are needed, seconds and dB.")
    raise CurveFileError("The file holds no points: a curve is a line of seconds,dB for each point.")


def _shapes(rows: list[list[str]], lines: list[int]) -> npt.NDArray[np.int8]:
    known = {name.lower(): int(shape) for name, shape in Shape.__members__.items()} | {"": int(Shape.LINEAR)}
    names = [row[2].strip().lower() if len(row) > 2 else "" for row in rows]
    try:
        return np.array([known[name] for name in names], np.int8)
    except KeyError:
        wrong = next(number for number, name in zip(lines, names, strict=True) if name not in known)
        raise CurveFileError(f"Line {wrong}: a shape is linear, smooth or hold.") from None


def _is_number(field: str, delimiter: str) -> bool:
    try:
        value = float(field.replace(",", ".") if delimiter != "," else field)
    except ValueError:
        return False
    return value == value
