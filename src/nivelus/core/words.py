"""Words of sentences that are put together."""

from __future__ import annotations

from collections.abc import Sequence


def listed(words: Sequence[str], ending: str = "and") -> str:
    """Some words in a sentence: "breaths, esses and gaps"."""
    return f"{', '.join(words[:-1])} {ending} {words[-1]}" if len(words) > 1 else words[0]


def printable(text: str) -> str:
    """Words from outside, without what a terminal or a page might stumble over."""
    return "".join(c for c in text if c.isprintable()).strip()
