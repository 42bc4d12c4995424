"""Answers: views as JSON, arrays as bytes."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from flask import Response

from nivelus.services.views import View

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
