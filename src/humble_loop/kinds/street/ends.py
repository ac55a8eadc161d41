"""A street's ends: where it can be cut back to, run on to, joined to another, and split; each with what that cuts or adds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.crossing import crossings
from humble_loop.kinds.street.cutting import extended, split, trimmed
from humble_loop.kinds.street.joining import Joint, bridge_points, joined, joints
from humble_loop.kinds.street.plan import StreetLine, centreline, chain_of, name_of, streets_in
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.describe import Fact, Sheet, SheetRow, joined_up
from humble_loop.lines.line import LineId, line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, End

_COLUMNS = ("end", "to", "at", "cuts or bend", "adds")
_FAR = 150.0  # metres by which a street is made longer at most
_MOST = 4  # places on streets, and as many on survey lines, that are offered at an end
_SAG = 0.05  # metres between what is lit up and the line
_MEETS = 0.5  # metres from an end within which it is there already
_BESIDE = 10.0  # metres to either side of a split that are lit up


@dataclass(frozen=True)
class Reached:
    """A line that a street's end can be taken to: its name, and the street's chainage there, which may lie beyond its end."""

    name: str
    chainage: float


@query
def reached(q: Engine, street: str, end: End) -> tuple[Reached, ...]:
    """Streets and survey lines that a street crosses, or would if it ran on straight: streets first, and of each the nearest
    to its end.
    """
    chain = chain_of(q, street)
    longer, shift = _longer(chain, end)
    e, n = longer.points_at(longer.sampled(sag=1.0)).T
    around = (e.min(), n.min(), e.max(), n.max())
    ids: list[LineId] = [StreetLine(i) for i in streets_in(q, around) if i != street]
    ids += [SurveyedLine(i) for i in parts.ids(q, SurveyLine)]
    streets: list[Reached] = []
    surveyed: list[Reached] = []
    tip = 0.0 if end == "start" else chain.total
    for id in ids:
        made = q.attempt(line_plan, id)
        if isinstance(made, Unsolved) or not _meet(made.base, around):
            continue
        name = name_of(q, id.street) if isinstance(id, StreetLine) else made.title
        at = crossings(longer, made.base)[:, 0] - shift
        at = at[np.abs(at - tip) > _MEETS]
        (streets if isinstance(id, StreetLine) else surveyed).extend(Reached(name, float(s)) for s in at)
    found = [sorted(those, key=lambda r: abs(r.chainage - tip))[:_MOST] for those in (streets, surveyed)]
    return (*found[0], *found[1])


def _meet(chain: Chain, around: tuple[float, float, float, float]) -> bool:
    e, n = chain.xy.T
    reach = float(chain.length.max())  # an element may leave the box of where they begin
    w, s, east, north = around
    return bool(e.min() - reach <= east and e.max() + reach >= w and n.min() - reach <= north and n.max() + reach >= s)


def _longer(chain: Chain, end: End) -> tuple[Chain, float]:
    """A chain that runs on straight at an end, and by how much its chainages are more."""
    on = Element(_FAR, 0.0, 0.0)
    if end == "end":
        at = chain.at([chain.total])
        return _assembled(chain, at.points, at.headings, on, last=True), 0.0
    at = chain.at([0.0])
    back = at.points - _FAR * np.column_stack([np.cos(at.headings), np.sin(at.headings)])
    return _assembled(chain, back, at.headings, on, last=False), _FAR


def _assembled(chain: Chain, place: Floats, heading: Floats, on: Element, *, last: bool) -> Chain:
    xy = [chain.xy, place] if last else [place, chain.xy]
    headings = [chain.heading, heading] if last else [heading, chain.heading]
    elements = [*chain.elements, on] if last else [on, *chain.elements]
    return Chain.assembled(np.concatenate(xy), np.concatenate(headings), elements)


# As rows


def end_sheet(q: Engine, street: str) -> Sheet:
    """What each end can be taken or joined to, lit up in plan before it is done; and where the street is split."""
    id = StreetLine(street)
    laid = q.attempt(centreline, street)
    if isinstance(laid, Unsolved):
        return Sheet("Ends", id, _COLUMNS, (), laid.message)
    chain = laid.chain
    rows = [_row(q, street, chain, end, r) for end in ENDS for r in reached(q, street, end)]
    rows += [_joint_row(q, street, chain, end, j) for end in ENDS for j in joints(q, street, end)]
    middle = 0.5 * chain.total
    at = Fact("split at", "chainage", middle, "proposed", lambda v: split(q, street, v))
    cells = (Fact("end", "text", "split"), Fact("to", "text", "two streets"), at, None, None)
    halves: tuple[tuple[str, Edit], ...] = (("Split it there", split(q, street, middle)),)
    lit = _stretch(chain, middle - _BESIDE, middle + _BESIDE)
    rows.append(SheetRow(cells, (middle, middle), lit, actions=halves))
    note = "The chosen row lights up what is cut or added. What hangs on the street stays where it stands"
    return Sheet("Ends", id, _COLUMNS, tuple(rows), note)


def _row(q: Engine, street: str, chain: Chain, end: End, to: Reached) -> SheetRow:
    tip = 0.0 if end == "start" else chain.total
    beyond = to.chainage - tip if end == "end" else tip - to.chainage  # metres that it grows, below zero: is cut
    cells = (
        Fact("end", "text", end),
        Fact("to", "text", to.name),
        Fact("at", "chainage", to.chainage),
        Fact("cuts", "length", -beyond) if beyond < 0 else None,
        Fact("adds", "length", beyond) if beyond > 0 else None,
    )
    low, high = sorted((to.chainage, tip))
    lit = _stretch(chain, low, high)
    if beyond < 0:
        do: tuple[str, Edit] = (f"Cut back to {to.name}", trimmed(q, street, end, to.chainage))
    else:
        do = (f"Run on to {to.name}", extended(q, street, end, beyond))
    return SheetRow(cells, (max(low, 0.0), min(high, chain.total)), lit, actions=(do,))


def _joint_row(q: Engine, street: str, chain: Chain, end: End, joint: Joint) -> SheetRow:
    """Another street that goes on from an end, and what bridges the gap."""
    other, name = chain_of(q, joint.other), name_of(q, joint.other)
    tip, begin = (0.0 if end == "start" else chain.total), 0.0 if joint.end == "start" else other.total
    radius = max(joint.radii)
    cells = (
        Fact("end", "text", end),
        Fact("to", "text", f"the {joint.end} of {name}"),
        Fact("at", "chainage", tip),
        Fact("radius", "length", radius, before="R") if radius > 0 else None,
        Fact("adds", "length", joint.length + other.total),
    )
    there = _stretch(other, max(begin - _BESIDE, 0.0), min(begin + _BESIDE, other.total))
    lit = joined_up([bridge_points(joint), there])
    return SheetRow(cells, (tip, tip), lit, actions=((f"Join {name}", joined(q, street, end, joint)),))


def _stretch(chain: Chain, low: float, high: float) -> Floats:
    """The line in plan between two chainages, which may lie beyond its ends."""
    s = chain.sampled(sag=_SAG)
    return chain.points_at(np.concatenate([[low], s[(s > low) & (s < high)], [high]]))
