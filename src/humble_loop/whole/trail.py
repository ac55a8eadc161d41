"""The level trail: the reasons behind a level, as steps with numbers, back to decisions and the ground.

A step is a quantity at one place (``humble_loop.lines.quantity``) told in words; where it rests on another line, the
trail goes on with that line's own quantity there. Steps that are reached twice are the same step: a trail is a graph.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.lines.line import LineId, line
from humble_loop.lines.quantity import Elsewhere, Quantity, known, say
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.whole.surface import probe

_MOST = 200  # places of lines in one trail: more cannot be followed


@dataclass(frozen=True, eq=False)
class Term:
    """A part of a step's value. ``amount`` is ``factor`` times the value of ``step`` where there is one."""

    words: str
    amount: float
    step: Step | None = None
    factor: float = 1.0


@dataclass(frozen=True, eq=False)
class Step:
    """A quantity at one place and how it comes about. One without terms is where a trail ends."""

    quantity: str
    value: float
    rule: str
    source: str
    unit: str
    terms: tuple[Term, ...] = ()

    def walk(self) -> Iterator[Step]:
        """This step and all it rests on, each once."""
        seen: set[int] = set()
        todo = [self]
        while todo:
            step = todo.pop()
            if id(step) in seen:
                continue
            seen.add(id(step))
            yield step
            todo.extend(t.step for t in step.terms if t.step is not None)

    def lines(self) -> list[str]:
        """The trail as indented text; a step met again is only named."""
        out: list[str] = []
        told: set[int] = set()

        def tell(step: Step, depth: int) -> None:
            pad = "  " * min(depth, 40)
            again = id(step) in told and bool(step.terms)
            rule = "as above" if again else step.rule
            out.append(f"{pad}{step.quantity} = {_value(step)}  [{step.source}] {rule}".rstrip())
            if again:
                return
            told.add(id(step))
            for t in step.terms:
                if t.step is None:
                    out.append(f"{pad}  {t.amount:+.4f}  {t.words}")
                elif t.factor == 1.0:
                    tell(t.step, depth + 1)
                else:
                    out.append(f"{pad}  {t.amount:+.4f}  {t.words}, times")
                    tell(t.step, depth + 2)

        tell(self, 0)
        return out


def _value(step: Step) -> str:
    return f"{100 * step.value:.4f} %" if step.unit == "grade" else f"{step.value:.4f}"


class Reasons:
    """Tells quantities as steps, each once."""

    def __init__(self, q: Engine) -> None:
        self._q = q
        self._told: dict[tuple[object, float, str], Step] = {}
        self._shared: dict[int, tuple[Quantity, Step]] = {}

    def of(self, quantity: Quantity) -> Step:
        """The step of a quantity at a single place."""
        known = self._shared.get(id(quantity))
        if known is None:
            known = self._shared[id(quantity)] = (quantity, self._tell(quantity))
        return known[1]

    def _tell(self, quantity: Quantity) -> Step:
        origin = quantity.origin
        if isinstance(origin, Elsewhere):
            return self.on_line(origin.line, float(origin.at[0]), origin.reads)  # type: ignore[arg-type]
        terms = []
        for addend in quantity.addends:
            words, factor, other = addend.at(0)
            if other is None:
                terms.append(Term(words, factor))
            elif factor != 0.0:
                step = self.of(other)
                terms.append(Term(words, factor * step.value, step, factor))
        value = float(sum(t.amount for t in terms)) if terms else float(quantity.value[0])
        if len(terms) == 1 and terms[0].step is not None and terms[0].factor == 1.0 and not terms[0].words:
            return terms[0].step
        return Step(say(quantity.name, 0), value, say(quantity.rule, 0), quantity.source, quantity.unit, tuple(terms))

    def on_line(self, id: LineId, s: float, reads: str = "level") -> Step:
        """The step of a line's level or grade at a place along it."""
        key = (id, round(s, 9), reads)
        if key not in self._told:
            rule = line(self._q, id).rule
            if len(self._told) >= _MOST:
                level = float((rule.levels if reads == "level" else rule.grades)([s])[0])
                title = f"{line(self._q, id).title} at {s:.2f}"
                return Step(title, level, "the trail goes on: ask for it there", "worked out", reads)
            made = rule.level([s]) if reads == "level" else rule.grade([s], "after")
            if reads == "grade" and not np.isfinite(made.value[0]):
                made = rule.grade([s], "before")
            self._told[key] = self.of(made)
        return self._told[key]


def explain(q: Engine, id: LineId, s: float) -> Step:
    """Why a line has its level at a place along it."""
    return Reasons(q).on_line(id, s)


def trail_at(q: Engine, easting: float, northing: float) -> Step:
    """The trail of the finished level at any place (from the site's origin): the nearest line of the face there, and
    from it on the surface to here.
    """
    found = probe(q, easting, northing)
    if found.face is None:
        if not np.isfinite(found.ground):
            e, n = parts.origin(q)
            raise Unsolved(f"{easting + e:.3f}, {northing + n:.3f}", "there is neither ground nor design here")
        return Reasons(q).of(known("ground", found.ground, "the current ground", "ground"))
    base = _base(q, found.face, np.array([easting, northing]))
    if base is None or not np.isfinite(base.value):
        return Step("finished level here", found.finished, f"on {found.title}", "worked out", "level")
    if abs(base.value - found.finished) < 5e-10:
        return base
    rest = found.finished - base.value
    terms = (Term("nearest line", base.value, base), Term("from there to here on the surface", rest))
    return Step("finished level here", base.value + rest, f"on {found.title}", "worked out", "level", terms)


def _base(q: Engine, id: FaceId, at: np.ndarray) -> Step | None:
    """What the level at a place of a face rests on: what its kind names, else the nearest of the face's lines."""
    named = kind_of(id.kind).reason(q, id, (float(at[0]), float(at[1])))
    if named is not None:
        return Reasons(q).of(named)
    best: tuple[float, LineId, float] | None = None
    for i in finished_mesh(q, id).lines:
        made = q.attempt(line, i)
        if isinstance(made, Unsolved):
            continue
        s, beyond = made.plan.foot(at)
        place = float(np.clip(s[0], made.plan.start, made.plan.end))
        distance = abs(float(beyond[0])) + abs(place - float(s[0]))
        if (best is None or distance < best[0]) and np.isfinite(made.rule.levels([place])[0]):
            best = (distance, i, place)
    return Reasons(q).on_line(best[1], best[2]) if best else None
