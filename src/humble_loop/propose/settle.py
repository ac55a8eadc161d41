"""Levels of VIPs that keep every rule asked of them and lie nearest to what is wanted; or the fewest rules that cannot all be kept."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arrays import Bools, Floats

_INSIDE = 2e-6  # metres, or ratios, by which a rule is kept more strictly where there is room: levels may be rounded to 1e-6 then
_SLACK = 1e-9  # the same, by which it is kept less strictly where there is none
_FAR = 1e3  # metres that a level is moved at most


_NOTHING = 2  # what HiGHS says where nothing keeps the rules


class NotSolved(ValueError):
    """A programme that ended neither with levels nor with the word that there are none."""


@dataclass(frozen=True)
class Rule:
    """What is asked, told in ``words``: that ``factors`` (n, k) times the levels lie between ``low`` and ``high`` (n,), either of which may
    be infinite.
    """

    words: str
    factors: Floats
    low: Floats
    high: Floats


@dataclass(frozen=True)
class Wanted:
    """What levels (n,) should be near: ``factors`` (n, k) times the levels, near ``to`` (n,), each counting ``weights`` (n,)."""

    factors: Floats
    to: Floats
    weights: Floats


@dataclass(frozen=True)
class Settled:
    """Levels (k,), and the sum of weighted distances (m) from what is wanted; or the words of rules that cannot all be kept, none of
    which could be left out of them.
    """

    levels: Floats
    off: float
    conflict: tuple[str, ...] = ()


def settled(present: Floats, free: Bools, rules: Sequence[Rule], wanted: Wanted) -> Generator[None, None, Settled]:
    """Levels (k,) of VIPs, those that are not ``free`` as they are, that keep all rules and are nearest to what is wanted.

    A linear programme, least Σ weight · |levels - wanted|, solved to the optimum by HiGHS. Where nothing keeps all rules, each is left
    out in turn and stays out if the others still cannot be kept: what remains is a smallest set of rules in conflict (no one of
    them could be left out). Yields between programmes, so that it can be given up.
    """
    found = _solve(free, *_relative(present, rules, wanted, -_INSIDE))
    shift = _relative(present, rules, wanted, _SLACK)
    if found is None:
        yield
        found = _solve(free, *shift)
    if found is not None:
        levels = present + found
        off = float(np.sum(wanted.weights * np.abs(wanted.factors @ levels - wanted.to)))
        yield
        return Settled(levels, off)
    kept = list(range(len(rules)))
    for i in list(kept):
        yield
        rest = [shift[0][j] for j in kept if j != i]
        if _solve(free, rest, None) is None:
            kept.remove(i)
    return Settled(present, np.inf, tuple(rules[i].words for i in kept))


def _relative(present: Floats, rules: Sequence[Rule], wanted: Wanted, slack: float) -> tuple[list[Rule], Wanted]:
    """Rules and wishes of how far levels are moved from where they are: levels of a site are hundreds of metres, moves are small."""
    moved = []
    for r in rules:
        at = r.factors @ present
        moved.append(Rule(r.words, r.factors, r.low - at - slack, r.high - at + slack))
    return moved, Wanted(wanted.factors, wanted.to - wanted.factors @ present, wanted.weights)


def _solve(free: Bools, rules: Sequence[Rule], wanted: Wanted | None) -> Floats | None:
    """How far each level is moved (k,); None where nothing keeps the rules. Without a wish anything that keeps them serves."""
    from scipy.optimize import linprog  # takes long to load, and is seldom wanted
    from scipy.sparse import csr_array, eye_array, hstack, vstack

    k, n = len(free), 0 if wanted is None else len(wanted.to)
    rows, limits = [], []
    for r in rules:
        for sign, edge in ((1.0, r.high), (-1.0, -r.low)):
            on = np.isfinite(edge)
            if on.any():
                rows.append(hstack([csr_array(sign * r.factors[on]), csr_array((int(on.sum()), n))]))
                limits.append(edge[on])
    if wanted is not None:
        each = eye_array(n)
        for sign in (1.0, -1.0):
            rows.append(hstack([csr_array(sign * wanted.factors), -each]))
            limits.append(sign * wanted.to)
    cost = np.concatenate([np.zeros(k), np.zeros(0) if wanted is None else wanted.weights])
    bounds = [*((-_FAR, _FAR) if f else (0.0, 0.0) for f in free), *[(0.0, None)] * n]
    if not rows:
        return np.zeros(k)
    found = linprog(cost, A_ub=vstack(rows).tocsr(), b_ub=np.concatenate(limits), bounds=bounds, method="highs")
    if found.status not in (0, _NOTHING):
        raise NotSolved(f"the levels could not be worked out ({found.message})")
    return np.asarray(found.x[:k], dtype=np.float64) if found.status == 0 else None
