"""A rule as a file: TOML (toml.io, version 1.0), a table for each section. What a file does not say is as it comes."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from nivelus.core.errors import RuleError
from nivelus.core.rule import About, Choice, Number, Rule, Switch, about, from_table

LARGEST = 64 * 1024
"""Bytes of a file that may hold a rule."""


def read_rule(data: bytes) -> Rule:
    """The rule that a TOML file holds.

    Raises
    ------
    RuleError
        If it is no TOML, or not a rule.
    """
    if len(data) > LARGEST:
        raise RuleError(f"A rule is a small text file, of {LARGEST // 1024} kB at most.")
    try:
        table = tomllib.loads(data.decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise RuleError("A rule is a text file (TOML) in UTF-8.") from None
    except tomllib.TOMLDecodeError as error:
        raise RuleError(f"The rule is no TOML: {str(error)[:1].lower()}{str(error)[1:200]}.") from None
    except ValueError:
        # a number of more digits than Python reads
        raise RuleError("The rule holds a number that is too long to be one.") from None
    except RecursionError:
        raise RuleError("The rule is no TOML that can be read: it is nested too deeply.") from None
    return from_table(table)


def write_rule(rule: Rule) -> bytes:
    """A rule as TOML, each setting with its words."""
    # only who writes a rule waits for it
    import tomlkit

    document = tomlkit.document()
    document.add(tomlkit.comment("A rule of Nivelus: what is not here is as it comes."))
    for section, values in asdict(rule).items():
        document.add(tomlkit.nl())
        document.add(section, _written(values, f"{section}."))
    return tomlkit.dumps(document).encode()


def _written(values: Mapping[str, Any], path: str) -> Any:
    """A table of TOML, with the words of its settings beside them."""
    import tomlkit

    table = tomlkit.table()
    for name, value in values.items():
        if isinstance(value, dict):
            table.add(name, _written(value, f"{path}{name}."))
            continue
        setting = about(f"{path}{name}")
        item = tomlkit.item(value)
        item.comment(f"{setting.words}{_range(setting)}")
        table.add(name, item)
    return table


def _range(about: About) -> str:
    """What a setting may be, as the end of its words."""
    match about:
        case Number(least, most, unit):
            return f": {least:g} to {most:g}{unit and ' ' + unit}"
        case Choice(options):
            return f": {', '.join(map(str, options))}"
        case Switch():
            return ""
