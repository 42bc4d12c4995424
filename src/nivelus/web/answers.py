"""Answers: views as JSON, arrays as bytes."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from flask import Response, send_file

from nivelus.services.views.view import View

FOREVER = "private, max-age=31536000, immutable"


def answer(view: View, status: int = 200) -> Response:
    """A view as JSON."""
    return Response(view.model_dump_json(), status, mimetype="application/json")


def array(values: npt.NDArray[Any], lasting: bool = False) -> Response:
    """Little-endian numbers one behind the other; ``lasting`` ones never change under their address."""
    data = np.ascontiguousarray(values, values.dtype.newbyteorder("<"))
    response = Response(data.tobytes(), mimetype="application/octet-stream")
    response.headers["Cache-Control"] = FOREVER if lasting else "no-store"
    return response


def as_file(data: bytes, name: str, mimetype: str | None = None) -> Response:
    """Bytes as a file of some name, to be kept."""
    return send_file(io.BytesIO(data), mimetype=mimetype, as_attachment=True, download_name=name)


def packed(parts: Sequence[npt.NDArray[Any]]) -> Response:
    """Several arrays in one answer: how many values each has as uint32, nothing up to a multiple of 8 bytes, then all values.

    Those of larger values come first, so that each can be looked at where it lies.
    """
    counts = np.array([part.size for part in parts] + [0] * (len(parts) % 2), np.uint32)
    sizes = [part.dtype.itemsize for part in parts]
    assert sizes == sorted(sizes, reverse=True)
    values = [np.ascontiguousarray(part, part.dtype.newbyteorder("<")) for part in (counts, *parts)]
    response = Response([value.tobytes() for value in values], mimetype="application/octet-stream")
    response.headers["Cache-Control"] = "no-store"
    return response
