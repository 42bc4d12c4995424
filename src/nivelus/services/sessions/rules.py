"""Rules with names: those that come with the program, those that a person kept, and what a session makes of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from nivelus.core.errors import NotFound, Refused, RuleError
from nivelus.core.kinds import NAMES
from nivelus.core.rule import DEFAULT, Rule, flat, with_values
from nivelus.core.rule_file import read_rule, write_rule
from nivelus.core.shipped import SHIPPED
from nivelus.services.answers.answers import after_edit, reading_back, tracks_of
from nivelus.services.answers.settling import settling
from nivelus.services.track.names import clean_name
from nivelus.services.track.rules import COLUMNS, RIDE, rule_of
from nivelus.services.track.state import rules_by_kind
from nivelus.services.track.timeline import Timeline
from nivelus.services.track.workbench import Workbench
from nivelus.services.views.mix_settings import locked_spans
from nivelus.services.views.session import Changed
from nivelus.services.views.view import View
from nivelus.store import history
from nivelus.store.editing import Edit
from nivelus.store.history import require
from nivelus.store.session_rows import kept_rules
from nivelus.store.tables import KeptRule, Session, Track

MOST_KEPT = 500
"""Rules that one program keeps."""


class NamedRule(View):
    """A rule with its name; ``shipped`` came with the program, and ``words`` say what it is for."""

    id: str
    name: str
    words: str
    shipped: bool


class NamedRules(View):
    """Rules with names: those that came with the program first, then those that were kept, by name."""

    items: list[NamedRule]


def named(bench: Workbench) -> NamedRules:
    """All rules that there are."""
    with bench.database.reading() as db:
        kept = kept_rules(db)
    shipped = [NamedRule(id=id, name=one.name, words=one.words, shipped=True) for id, one in SHIPPED.items()]
    return NamedRules(items=[*shipped, *map(_view, kept)])


def keep(bench: Workbench, session_id: str, name: str, track_id: str | None, ride: Mapping[str, Any]) -> NamedRule:
    """Keep the rule of a session under a name, with the details of a voice and the duck of a bed.

    Those are of the track ``track_id`` where it has them, and else of the first one that has. ``ride`` is what is set of rides
    at the moment.
    """
    with bench.database.reading() as db:
        session = require(db, Session, session_id, "session")
        tracks = [track for track, _ in tracks_of(db, session_id)]
        # the first of what the rule can be of comes last: its values hold
        tracks.sort(key=lambda track: (track.id == track_id, -track.position))
        rule = rule_of(session, *tracks)
    return _put(bench, name, with_values(rule, {f"{RIDE}{one}": value for one, value in ride.items()}))


def bring_in(bench: Workbench, name: str, data: bytes) -> NamedRule:
    """Keep a rule that a file holds. Raises RuleError."""
    return _put(bench, name, read_rule(data))


def give_out(bench: Workbench, rule_id: str) -> tuple[str, bytes]:
    """A rule as a file: its name, and what is in it."""
    name, rule = _found(bench, rule_id)
    return f"{name}.toml", write_rule(rule)


def remove(bench: Workbench, rule_id: str) -> None:
    """Delete a rule that was kept. Those that came with the program stay."""
    if rule_id in SHIPPED:
        raise Refused("This rule came with the program: it stays.")
    with bench.database.writing() as db:
        db.delete(require(db, KeptRule, rule_id, "rule"))


def apply(bench: Workbench, session_id: str, revision: int, rule_id: str) -> Changed:
    """Make a rule that of a session, with the details of all its voices and the ducks of its beds, as one step.

    Drafted phrases settle where their details go down otherwise; what was drafted before stays as it is.
    """
    name, rule = _found(bench, rule_id)
    with history.edit(bench.database, session_id, f"Set the rule {name}", revision, read_back=reading_back(bench)) as edit:
        values = flat(rule)
        for path, column in COLUMNS.items():
            setattr(edit.session, column, values[path])
        edit.session.ride = {one: value for one, value in asdict(rule.ride).items() if one != "on"}
        told = []
        for track, timeline in tracks_of(edit.db, session_id):
            _apply(bench, edit, track, timeline, rule)
            told += [edit.told] if edit.told else []
            edit.told = ""
        edit.told = "; ".join(dict.fromkeys(told))
    return after_edit(bench, edit)


def _apply(bench: Workbench, edit: Edit, track: Track, timeline: Timeline, rule: Rule) -> None:
    """Give a track what a rule says of its details, or of the room that it makes."""
    if track.follows:
        return
    if track.kind == "bed":
        locked = locked_spans(track)
        track.duck = asdict(rule.duck) | ({"locked": locked} if locked else {})
        return
    own = {kind: asdict(getattr(rule.details, kind)) for kind in NAMES}

    def work() -> None:
        track.dip_rules = {kind: view.model_dump() for kind, view in rules_by_kind(own).items()}

    settling(bench, edit, track, timeline, work)


def _put(bench: Workbench, name: str, rule: Rule) -> NamedRule:
    """Keep a rule under a name that no other one has."""
    name = clean_name(name)
    come = flat(DEFAULT)
    with bench.database.writing() as db:
        kept = {one.name.casefold() for one in kept_rules(db)}
        if name.casefold() in kept | {one.name.casefold() for one in SHIPPED.values()}:
            raise Refused(f"There is a rule called “{name}” already. Give this one another name.")
        if len(kept) >= MOST_KEPT:
            raise Refused(f"{MOST_KEPT} rules are kept already. Delete some of them first.")
        row = KeptRule(name=name, values={path: value for path, value in flat(rule).items() if value != come[path]})
        db.add(row)
        return _view(row)


def _found(bench: Workbench, rule_id: str) -> tuple[str, Rule]:
    """A rule and its name. Raises NotFound, and RuleError where what was kept is none any more."""
    if rule_id in SHIPPED:
        return SHIPPED[rule_id].name, SHIPPED[rule_id].rule
    with bench.database.reading() as db:
        row = db.get(KeptRule, rule_id)
        if row is None:
            raise NotFound("This rule no longer exists.", id=rule_id)
        try:
            return row.name, with_values(DEFAULT, row.values)
        except RuleError as error:
            raise RuleError(f"The rule “{row.name}” cannot be used: {error.sentence}", **error.fields) from None


def _view(row: KeptRule) -> NamedRule:
    return NamedRule(id=row.id, name=row.name, words="", shipped=False)
