"""Routes of rules with names: seeing, keeping, bringing in, applying and deleting them."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import BaseModel, Field

from nivelus.core.rule_file import LARGEST
from nivelus.services.sessions import rules
from nivelus.services.sessions.rules import NamedRule, NamedRules
from nivelus.services.views.session import Changed
from nivelus.web.answers import answer
from nivelus.web.context import bench
from nivelus.web.models import Id, Name, Request, Revised, SessionPath
from nivelus.web.rides import RideRuleIn
from nivelus.web.routes import Routes

api = Routes("rules", "rules", "/api")


class RulePath(BaseModel):
    """A rule in an address."""

    rule_id: Id


class RuleToKeep(Request):
    """What to keep of a session: its rule, with the details of a track, and the values of rides as they are set now."""

    name: Name
    session: Id
    track: Id | None = None
    ride: RideRuleIn = RideRuleIn()


class RuleFile(Request):
    """A rule from a file: what it is to be called, and the text (TOML)."""

    name: Name
    text: Annotated[str, Field(max_length=16 * LARGEST)]


class RuleToApply(Revised):
    """The rule that a session is to have."""

    rule: Id


@api.get("/rules", responses={200: NamedRules})
def list_rules() -> Response:
    """Every rule with a name: those that came with the program, and those that were kept."""
    return answer(rules.named(bench()))


@api.post("/rules", responses={201: NamedRule})
def keep_rule(body: RuleToKeep) -> Response:
    """Keep the rule of a session under a name."""
    ride = {name: value for name, value in body.ride.values().items() if name != "dead_band"}
    return answer(rules.keep(bench(), body.session, body.name, body.track, ride), 201)


@api.post("/rules/bring-in", responses={201: NamedRule})
def bring_in(body: RuleFile) -> Response:
    """Keep a rule that a file holds."""
    return answer(rules.bring_in(bench(), body.name, body.text.encode("utf-8", "surrogatepass")), 201)


@api.delete("/rules/<rule_id>", responses={204: None})
def delete_rule(path: RulePath) -> Response:
    """Delete a rule that was kept."""
    rules.remove(bench(), path.rule_id)
    return Response(status=204)


@api.post("/sessions/<session_id>/rule", responses={200: Changed})
def apply_rule(path: SessionPath, body: RuleToApply) -> Response:
    """Make a rule that of a session, as one step."""
    return answer(rules.apply(bench(), path.session_id, body.revision, body.rule))
