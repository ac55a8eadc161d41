"""Stretches of a street, at its chainages as drawn, when it is cut, made longer or joined: where they lie afterwards."""

from __future__ import annotations

Span = tuple[float, float]
_LEAST = 1e-6  # metres of a stretch that is none


def cut_span(span: Span, kept: Span, rest: str) -> tuple[Span | None, Span | None]:
    """What is left of a stretch on its street, and what goes to the street ``rest``; None for nothing. See ``Kind.recut``."""
    begin, finish = kept
    low, high, beyond = max(span[0], begin), min(span[1], finish), max(span[0], finish)
    here = (low - begin, high - begin) if high - low > _LEAST else None
    there = (beyond - finish, span[1] - finish) if rest and span[1] - beyond > _LEAST else None
    return here, there


def moved_span(span: Span, start: float, back: bool) -> Span:
    """A stretch of a street that became part of another, at that one's chainages. See ``Kind.rejoined``."""
    return (start - span[1], start - span[0]) if back else (start + span[0], start + span[1])
