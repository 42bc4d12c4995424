"""Routes of sessions: cards, state, rule, history."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import BaseModel, Field

from nivelus.services.sessions import broken, cards, sessions
from nivelus.services.sessions.cards import CardsView
from nivelus.services.sessions.sessions import RevisionView
from nivelus.services.terms import terms
from nivelus.services.views.session import Changed
from nivelus.web.answers import answer
from nivelus.web.context import bench
from nivelus.web.models import Id, Name, Request, Revised, RuleIn, SessionPath
from nivelus.web.routes import Routes

api = Routes("sessions", "sessions", "/api/sessions")


class NewSession(Request):
    """A session to start."""

    name: Name


class SessionChange(Revised):
    """Another name, another rule, or both."""

    name: Name | None = None
    rule: RuleIn | None = None


class SessionQuery(BaseModel):
    """Which tracks are told with their clips and marks; all if nothing is said. ``first`` may be empty: the first in order."""

    first: Annotated[str, Field(max_length=40)] | None = None
    only: Id | None = None


@api.get("", responses={200: CardsView})
def list_sessions() -> Response:
    """All sessions, the one touched last first."""
    return answer(CardsView(items=cards.list_cards(bench())))


@api.post("", responses={201: Changed})
def create_session(body: NewSession) -> Response:
    """Start a session."""
    return answer(_whole(sessions.create(bench(), body.name)), 201)


@api.get("/<session_id>", responses={200: Changed})
def get_session(path: SessionPath, query: SessionQuery) -> Response:
    """Everything of a session; or, of clips and marks, those of one track, or of the first and few enough others."""
    return answer(_whole(path.session_id, query.first, query.only))


@api.get("/<session_id>/revision", responses={200: RevisionView})
def get_revision(path: SessionPath) -> Response:
    """The revision of a session, for a window that cannot listen for news."""
    return answer(sessions.revision(bench(), path.session_id))


@api.patch("/<session_id>", responses={200: Changed})
def change_session(path: SessionPath, body: SessionChange) -> Response:
    """Change the name or the rule."""
    values = body.rule.values() if body.rule else {}
    if body.name is not None:
        values["name"] = body.name
    return answer(sessions.update(bench(), path.session_id, body.revision, values))


@api.delete("/<session_id>", responses={204: None})
def delete_session(path: SessionPath) -> Response:
    """Delete a session for good."""
    sessions.remove(bench(), path.session_id)
    return Response(status=204)


@api.post("/<session_id>/undo", responses={200: Changed})
def undo(path: SessionPath, body: Revised) -> Response:
    """Take back the newest step."""
    return answer(sessions.undo(bench(), path.session_id, body.revision))


@api.post("/<session_id>/redo", responses={200: Changed})
def redo(path: SessionPath, body: Revised) -> Response:
    """Do again what was undone last."""
    return answer(sessions.redo(bench(), path.session_id, body.revision))


@api.post("/<session_id>/undo-to-whole", responses={200: Changed})
def undo_to_whole(path: SessionPath) -> Response:
    """Take steps of a session that cannot be read back until it can."""
    return answer(broken.undo_to_whole(bench(), path.session_id))


def _whole(session_id: str, first: str | None = None, only: str | None = None) -> Changed:
    return sessions.opened(bench(), session_id, first, only).model_copy(update={"terms": terms()})
