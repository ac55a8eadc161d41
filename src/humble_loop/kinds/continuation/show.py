"""How a continuation shows itself."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.continuation.checks import grades_at, join_mend
from humble_loop.kinds.continuation.meets import Continuation, choice_at, decided, name_at
from humble_loop.kinds.continuation.model import TAPER
from humble_loop.kinds.street.plan import StreetLine, end_chainage, is_new, name_of, vips_of
from humble_loop.lines.describe import Actions, Choice, Drawing, Fact, Label, Place, Row
from humble_loop.lines.line import line
from humble_loop.propose.through import SAME


def level_at(q: Engine, made: Continuation) -> float:
    """The crown's level there; NaN where it has none."""
    crown = q.attempt(line, StreetLine(made.holds.street))
    at = end_chainage(q, made.holds.street, made.holds.end)
    return float("nan") if isinstance(crown, Unsolved) else float(crown.rule.levels([at])[0])


def details(q: Engine, made: Continuation) -> Drawing:
    """The level at which one goes on as the other."""
    z = level_at(q, made)
    if not np.isfinite(z):
        return Drawing()
    place = (float(made.place[0]), float(made.place[1]))
    return Drawing((), (), (Label(place, "crown", 1, unit="level", value=z, weight=500, size=12),))


def facts(q: Engine, made: Continuation) -> tuple[Row, ...]:
    """Whose levels and section hold, over what length the other turns into its own, level and grades."""
    chosen, name = choice_at(q, *made.tips), name_at(q, made)
    given = chosen is not None and bool(chosen.name)
    rename = decided(q, made, name=None if given else name)
    rows: list[Row] = [
        Fact("name", "text", name, "set" if given else "proposed", lambda v: decided(q, made, name=v or None), rename)
    ]
    holds, follows = made.holds.street, made.follows.street
    if is_new(q, holds):
        options = ((holds, name_of(q, holds)), (follows, f"{name_of(q, follows)}{_change(q, made)}"))
        rows.append(Choice("levels and section of", options, holds, lambda v: decided(q, made, holds=v)))
        state = "set" if made.taper != TAPER else "proposed"
        title = f"{name_of(q, follows)} is its own after"
        back = decided(q, made, taper=TAPER)
        rows.append(Fact(title, "size", made.taper, state, lambda v: decided(q, made, taper=v), back))
    rows.append(Fact("level there", "level", level_at(q, made), "tied"))
    if (grades := grades_at(q, made)) is not None:
        rows += [
            Fact(f"grade of {name_of(q, t.street)}", "grade", g) for t, g in zip((made.holds, made.follows), grades)
        ]
    if (mend := join_mend(q, *made.tips)) is not None:
        rows.append(Actions(((mend.words, mend.edit),)))
    return tuple(rows)


def _change(q: Engine, made: Continuation) -> str:
    """By how much the level there changes if the other street holds, in words, where that has a VIP of its own there."""
    at = end_chainage(q, made.follows.street, made.follows.end)
    own = [v.level for v in vips_of(q, made.follows.street) if abs(v.chainage - at) < SAME and v.level is not None]
    return f" ({own[0] - level_at(q, made):+.2f} m there)" if own else ""


def at(made: Continuation, place: Place) -> float:
    """How near a place is to it."""
    return float(np.hypot(*(made.place - np.array(place))))
