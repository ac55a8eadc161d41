"""A street's levels and falls across it in rows, to read and to type in."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.kerb_line.levels import as_it_runs, kerb_lines_on
from humble_loop.kinds.kerb_line.model import add_kerb_vip, set_kerb_vip
from humble_loop.kinds.street.crossfalls import Across, crossfalls
from humble_loop.kinds.street.edits import set_vip
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, vips_of
from humble_loop.kinds.street.show import add_vip
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import Side

_COLUMNS = (
    "chainage", "left boundary", "left path", "left lip", "left fall", "crown", "right fall", "right lip", "right path",
    "right boundary", "lip over old", "crown over old",
)  # fmt: skip
_ROWS = 80  # rows at most
_HERE = 0.5  # metres within which a VIP is the one that is meant


def crossfall_sheet(q: Engine, street: str) -> Sheet:
    """Crown, lips and boundaries at intervals with the falls between them; a level or a fall that is typed becomes a VIP there."""
    own = StreetLine(street)
    total = chain_of(q, street).total
    every = max(parts.settings(q).row_interval, total / _ROWS)
    made = q.attempt(crossfalls, street, every)
    if isinstance(made, Unsolved):
        return Sheet("Crossfalls", own, _COLUMNS, (), made.message)
    points, rows = chain_of(q, street).points_at(made.chainages), []
    for i, s in enumerate(made.chainages.tolist()):
        crown = float(made.crown[i])
        a, b = made.left, made.right
        over = np.array([a.over[i], b.over[i]])
        cells = (
            Fact("chainage", "chainage", s),
            _level("left boundary", a.boundary[i]),
            _fall("left path", a.path_fall[i]),
            Fact("left lip", "level", float(a.lip[i]), "set", _lip(q, street, "left", s)),
            Fact("left fall", "grade", float(a.crossfall[i]), "set", _by_fall(q, street, "left", s, crown, a, i)),
            Fact("crown", "level", crown, "set", _crown(q, street, s)),
            Fact("right fall", "grade", float(b.crossfall[i]), "set", _by_fall(q, street, "right", s, crown, b, i)),
            Fact("right lip", "level", float(b.lip[i]), "set", _lip(q, street, "right", s)),
            _fall("right path", b.path_fall[i]),
            _level("right boundary", b.boundary[i]),
            _level("lip over old", float(np.nanmin(over)) if np.isfinite(over).any() else np.nan),
            _level("crown over old", made.over[i]),
        )
        rows.append(SheetRow(cells, (s, s), points[i : i + 1]))
    note = "Falls are positive towards the kerb. A crown, lip or fall that is typed becomes a VIP there; a lip needs own levels first"
    return Sheet("Crossfalls", own, _COLUMNS, tuple(rows), note)


def _level(label: str, value: float) -> Fact | None:
    return Fact(label, "level", float(value)) if np.isfinite(value) else None


def _fall(label: str, value: float) -> Fact | None:
    return Fact(label, "grade", float(value)) if np.isfinite(value) else None


def _crown(q: Engine, street: str, s: float) -> Callable[[float], Edit]:
    """Sets the crown's VIP at a chainage, or adds one there."""
    at = [i for i, v in enumerate(vips_of(q, street)) if abs(v.chainage - s) <= _HERE]
    if at:
        return lambda z: lambda site: set_vip(site, street, at[0], level=z)
    return lambda z: add_vip(q, street, s, z)


def _lip(q: Engine, street: str, side: Side, s: float) -> Callable[[float], Edit]:
    """Sets the VIP of a lip's own levels at a chainage, or adds one there."""

    def to(z: float) -> Edit:
        for id in kerb_lines_on(q, street, side, "lip"):
            k = as_it_runs(q, id)
            if k.begin - _HERE <= s <= k.finish + _HERE:
                here = [n for v, n in zip(k.vips, k.index) if abs(v.chainage - s) <= _HERE]
                if here:
                    return lambda site: set_kerb_vip(site, id, here[0], level=z)
                at = chain_of(q, street).total - s if frame_of(q, street).turned else s
                return lambda site: add_kerb_vip(site, id, round(at, 3), z)

        def refused(site: object) -> object:
            raise EditError(
                f"the {side} lip has no levels of its own at {s:.2f}: give it some first, in the facts of the street"
            )

        return refused  # type: ignore[return-value]

    return to


def _by_fall(q: Engine, street: str, side: Side, s: float, crown: float, a: Across, i: int) -> Callable[[float], Edit]:
    return lambda fall: _lip(q, street, side, s)(crown - fall * float(a.lip_out[i]))
