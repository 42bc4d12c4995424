"""The rule: what it may be is said once, and goes out and comes in as TOML (toml.io, 1.0)."""

from __future__ import annotations

import tomllib
from dataclasses import asdict
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nivelus.core.drafts import from_rule
from nivelus.core.drafts.clip_gain import ClipGainRule
from nivelus.core.drafts.dip_rules import DEFAULT_RULES
from nivelus.core.drafts.duck import DuckRule
from nivelus.core.drafts.slow import SlowRule
from nivelus.core.drafts.wants import RideRule
from nivelus.core.errors import RuleError
from nivelus.core.rule import DEFAULT, Choice, Number, Rule, Switch, about, flat, from_table, to_table, with_values
from nivelus.core.rule import settings as all_settings
from nivelus.core.rule_file import LARGEST, read_rule, write_rule


def values_of(path: str) -> st.SearchStrategy[Any]:
    match about(path):
        case Number(least, most):
            return st.floats(least, most, allow_nan=False).map(lambda number: round(number, 3))
        case Choice(options):
            return st.sampled_from(options)
        case Switch():
            return st.booleans()


TIED = {"shallowest", "deepest", "bits"}
"""Settings that what another one is leaves less to."""
rules = st.fixed_dictionaries(
    {}, optional={path: values_of(path) for path, *_ in all_settings() if path.split(".")[-1] not in TIED}
)


@given(values=rules)
@settings(max_examples=60, deadline=None)
def test_a_rule_goes_out_as_toml_and_comes_back_the_same(values: dict[str, Any]) -> None:
    rule = with_values(DEFAULT, values)
    text = write_rule(rule)
    assert read_rule(text) == rule
    # and it is what any reader of TOML reads
    assert tomllib.loads(text.decode()) == to_table(rule)
    assert with_values(DEFAULT, flat(rule)) == rule


def test_every_setting_has_its_words_in_the_file() -> None:
    text = write_rule(DEFAULT).decode()
    for path, _, what in all_settings():
        name = path.split(".")[-1]
        assert any(line.startswith(f"{name} =") and what.words in line for line in text.splitlines()), path


def test_what_a_file_does_not_say_is_as_it_comes() -> None:
    rule = read_rule(b"[target]\nlevel = -23\n[details.breath]\non = true\n")
    assert rule.target.level == -23.0
    assert rule == with_values(DEFAULT, {"target.level": -23.0, "details.breath.on": True})
    assert read_rule(b"") == DEFAULT == Rule()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (b"[target\n", "The rule is no TOML"),
        (b"\xff\xfe", "text file"),
        (b"[phrases]\nmost_up = 70\n", "phrases.most_up is 70: it goes from 0 to 60 dB."),
        (b"[phrases]\nmost_up = 'far'\n", "phrases.most_up is a number from 0 to 60 dB."),
        (b"[phrases]\nmost_up = nan\n", "phrases.most_up is a number"),
        (b"[phrases]\nmost_up = inf\n", "phrases.most_up is inf: it goes from 0 to 60 dB."),
        (b"[phrases]\nmost_up = 1" + b"0" * 400 + b"\n", "it goes from 0 to 60 dB."),
        (b"[phrases]\nmost_up = 1" + b"0" * 5000 + b"\n", "too long"),
        (b"[phrases]\nmost_up = 2026-11-30\n", "phrases.most_up is a number"),
        (b"[phrases]\nmost_up = true\n", "phrases.most_up is a number"),
        (b"[phrases]\npeaks = 1\n", "phrases.peaks is true or false."),
        (b"[target]\nkind = 'loud'\n", "target.kind is one of absolute, median, reference."),
        (b"[target]\nkind = ['absolute']\n", "target.kind is one of"),
        (b"[out]\nbits = 24.0\n", "out.bits is one of 16, 24, 32."),
        (b"[out]\nbits = 32\nformat = 'flac'\n", "FLAC takes 16 or 24 bits"),
        (b"[details.breath]\ndeepest = -2\nshallowest = -5\n", "deepest is not above shallowest."),
        (b"[details.breath]\neven = true\n", "no setting \u201cdetails.breath.even\u201d"),
        (b"[details]\nbreath = 3\n", "no setting \u201cdetails.breath\u201d"),
        (b"phrases = 3\n", "no setting \u201cphrases\u201d"),
        (b"[[phrases]]\nmost_up = 3\n", "no setting \u201cphrases\u201d"),
        (b"[phrases.most_up]\nx = 3\n", "phrases.most_up is a number"),
        (b"[loudness]\n", "no setting \u201cloudness\u201d"),
        (b"loudness = 3\n", "no setting \u201cloudness\u201d"),
        (b'"' + b"x" * 5000 + b'" = 3\n', "no setting"),
        (b"#" * (LARGEST + 1), "small text file"),
        (b"a = " + b"[" * 20_000, "TOML"),
        (b"a." * 20_000 + b"b = 1\n", "setting"),
    ],
)
def test_what_is_no_rule_is_refused_in_a_sentence(text: bytes, says: str) -> None:
    with pytest.raises(RuleError) as refused:
        read_rule(text)
    assert says in refused.value.sentence
    assert len(refused.value.sentence) < 400


def test_drafts_come_as_the_rule_comes() -> None:
    """Defaults stand once: who makes a draft without saying how gets what the rule says."""
    assert from_rule.gain_rule(DEFAULT) == ClipGainRule()
    assert from_rule.ride_rule(DEFAULT) == RideRule()
    assert from_rule.duck_rule(DEFAULT) == DuckRule()
    assert from_rule.slow_rule(DEFAULT) == SlowRule(target=DEFAULT.target.level)
    assert from_rule.dip_rules(DEFAULT) == {}
    every = with_values(DEFAULT, {f"details.{kind}.on": True for kind in asdict(DEFAULT.details)})
    assert from_rule.dip_rules(every) == {kind: rule for kind, rule in DEFAULT_RULES.items() if kind != "dip"}


def test_a_table_is_a_rule_and_a_rule_a_table() -> None:
    assert from_table(to_table(DEFAULT)) == DEFAULT
