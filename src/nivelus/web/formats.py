"""Which files come in and go out: what the page asks once, before there is a session."""

from __future__ import annotations

from flask import Response

from nivelus.services.terms import sound_formats
from nivelus.services.views.terms import SoundFormats
from nivelus.web.answers import answer
from nivelus.web.routes import Routes

api = Routes("formats", "formats", "/api/formats")


@api.get("/sound", responses={200: SoundFormats})
def list_sound_formats() -> Response:
    """The formats of sound files, with their names and endings, and what is written of them."""
    return answer(sound_formats())
