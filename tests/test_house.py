"""The house: rooms that nobody has to search, and who knows what in it."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parents[1]
MOST_LINES = 350


def test_no_file_is_too_long_to_be_known() -> None:
    """What a tool has written is not read."""
    files = [
        *(path for folder in ("src", "tests", "bench") for path in (ROOT / folder).rglob("*.py")),
        *(path for ending in ("*.ts", "*.tsx", "*.css") for path in (ROOT / "frontend" / "src").rglob(ending)),
    ]
    assert len(files) > 400
    long = {
        str(path.relative_to(ROOT)): count
        for path in files
        if path.name != "schema.d.ts" and (count := len(path.read_text().splitlines())) > MOST_LINES
    }
    assert long == {}


def test_the_database_is_asked_in_the_store() -> None:
    """Use cases ask by name; only upkeep, which looks at what lies there, asks in words of its own."""
    asks = re.compile(r"\bselect\(|\.(?:execute|scalars|scalar)\(")
    services = ROOT / "src" / "nivelus" / "services"
    asking = {path.parent.name for path in services.rglob("*.py") if asks.search(path.read_text())}
    assert asking == {"upkeep"}


def refusals() -> Iterator[ast.Call]:
    """Every error that the program raises with words of its own."""
    for path in (ROOT / "src" / "nivelus").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call):
                yield node.exc


def words_of(call: ast.Call) -> str:
    return " ".join(n.value for n in ast.walk(call) if isinstance(n, ast.Constant) and isinstance(n.value, str))


def test_the_server_names_no_key() -> None:
    """The page knows its keys; the server names the command."""
    said = [words_of(call) for call in refusals()]
    assert len(said) > 200
    key = re.compile(r"\((?:[A-Z]|(?:Shift|Ctrl|Alt|Mod)\+\S+|Space|Enter|Escape|Backspace|Delete)\)")
    assert [words for words in said if key.search(words)] == []
    assert key.search("Unlock it first (L).")


def test_a_command_that_the_server_names_is_one_of_the_page() -> None:
    table = ROOT / "frontend" / "src" / "model" / "commands" / "commands.ts"
    known = set(re.findall(r'\bc\(\s*"([a-z-]+)"', table.read_text()))
    sources = [(path, path.read_text()) for path in (ROOT / "src" / "nivelus").rglob("*.py")]
    named = {name: path.name for path, text in sources for name in re.findall(r'\bcommand="([^"]*)"', text)}
    assert {"lock", "not-a-mark", "join"} <= named.keys()
    assert named.keys() - known == set()
