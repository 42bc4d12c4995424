"""The house: rooms that nobody has to search, which is a matter of their size."""

from __future__ import annotations

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
