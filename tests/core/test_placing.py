"""Where clips lie on a track: what is left of one that others lie over."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from nivelus.core.chain.placing import uncovered

SPANS = st.lists(st.tuples(st.integers(0, 60), st.integers(1, 20)), max_size=6)


@given(SPANS, st.integers(1, 5))
def test_what_is_left_of_a_span_is_what_no_other_lies_over(lengths: list[tuple[int, int]], least: int) -> None:
    start, end = 10, 50
    spans = sorted((a, a + n) for a, n in lengths if a < end and a + n > start)
    is_left = np.zeros(100, bool)
    is_left[start:end] = True
    for a, b in spans:
        is_left[a:b] = False
    edges = np.flatnonzero(np.diff(np.concatenate([[0], is_left.astype(int), [0]])))
    pieces = list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))
    assert uncovered(start, end, spans, least) == [(a, b) for a, b in pieces if b - a >= least]
