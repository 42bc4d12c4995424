"""Each room of the core says which of its modules are for others; the rest is its own."""

from __future__ import annotations

import ast
import importlib
from pathlib import Path

import pytest

import nivelus.core

CORE = Path(nivelus.core.__file__).parent
ROOMS = sorted(path.parent.name for path in CORE.glob("*/__init__.py"))


def imported_from_outside(room: str) -> set[str]:
    """The modules of a room that the rest of the program imports."""
    name, found = f"nivelus.core.{room}", set()
    for path in CORE.parent.rglob("*.py"):
        if path.parent == CORE / room:
            continue
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ImportFrom) and node.module == name:
                found |= {alias.name for alias in node.names}
            elif isinstance(node, ast.ImportFrom) and (node.module or "").startswith(f"{name}."):
                found.add((node.module or "").removeprefix(f"{name}.").split(".")[0])
    return found


@pytest.mark.parametrize("room", ROOMS)
def test_others_use_what_a_room_shows_and_it_shows_nothing_else(room: str) -> None:
    shown = set(importlib.import_module(f"nivelus.core.{room}").__all__)
    assert shown == imported_from_outside(room)
    assert all((CORE / room / f"{module}.py").exists() for module in shown)


def test_what_takes_many_things_says_what_they_are() -> None:
    """Public functions with more than three parameters have a section for them."""
    silent = [
        f"{path.relative_to(CORE)}: {node.name}"
        for path in CORE.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.FunctionDef)
        and not node.name.startswith("_")
        and len([arg for arg in (*node.args.args, *node.args.kwonlyargs) if arg.arg not in ("self", "cls")]) > 3
        and "Parameters\n" not in (ast.get_docstring(node) or "")
    ]
    assert silent == []
