"""Marks as the program has them and as the page shows them, for tests."""

from __future__ import annotations

from typing import Any

from playwright.sync_api import Locator, Page

from tests.helpers.answers import every_mark
from tests.helpers.program import Program


def marks_of(program: Program, state: dict[str, Any], kind: str) -> list[dict[str, Any]]:
    """The marks of one kind as the server has them now, in order of time."""
    now = program.get(f"/api/sessions/{state['id']}")
    return [mark for mark in every_mark(now) if mark["kind"] == kind]


def mark_now(program: Program, state: dict[str, Any], mark: dict[str, Any]) -> dict[str, Any]:
    return next(m for m in every_mark(program.get(f"/api/sessions/{state['id']}")) if m["id"] == mark["id"])


def mark_row(page: Page, mark: dict[str, Any]) -> Locator:
    return page.locator(f".row[data-mark='{mark['id']}']")


def kind_rule(page: Page, kind: str) -> Locator:
    return page.locator(f".kind-rule[data-kind='{kind}']")


def only_kind(page: Page, kind: str) -> None:
    """Show one kind in list and picture."""
    for name in ("Breaths", "Esses", "Knocks", "Gaps"):
        button = page.get_by_role("group", name="Kinds that are shown").get_by_role("button", name=name)
        if (button.get_attribute("aria-pressed") == "true") != (name == kind):
            button.click()
