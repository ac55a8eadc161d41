"""The order of construction: which of two streets is built after the other.

It is decided pair by pair. Where it is not, a kind may say so of some (a street that leaves another at a sharp angle is built after it);
of the rest neither is, and their earthworks meet as equals.
"""

from __future__ import annotations

from typing import Any, ClassVar

from pydantic import model_validator

from humble_loop.engine.query import Engine, gate, query
from humble_loop.kinds.street.plan import box, is_new, name_of, streets_in
from humble_loop.lines.describe import Choice
from humble_loop.lines.standing import kinds
from humble_loop.site import parts
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import Site, Thing

NEITHER = ""
_WIDE = 15.0  # metres from a crown to its boundary, or a little less


class BuildOrder(Thing):
    """Of two streets, ``first`` the one whose id comes first, which is built ``later`` than the other; '' where neither is."""

    collection: ClassVar[str] = "build_orders"
    words: ClassVar[str] = "order of construction"
    owned_by: ClassVar[str] = "streets"

    first: str
    second: str
    later: str = NEITHER

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id"):
            return {**data, "id": f"{data.get('first')}:{data.get('second')}"}
        return data

    @model_validator(mode="after")
    def _of_both(self) -> BuildOrder:
        if self.first >= self.second:
            raise ValueError(
                f"an order of construction is told by its two streets in the order of their ids, {self.second} before {self.first}"
            )
        if self.later not in (NEITHER, self.first, self.second):
            raise ValueError(f"of '{self.first}' and '{self.second}' one is built later, not '{self.later}'")
        return self

    @property
    def owner(self) -> str | None:
        """The street whose id comes first."""
        return self.first


def decided_order(street: str, other: str, later: str) -> Edit:
    """The edit that has one of two streets built ``later`` than the other, or neither ('')."""
    first, second = sorted((street, other))
    return lambda site: site.put(BuildOrder(first=first, second=second, later=later))


@query
def later_of(q: Engine, street: str, other: str) -> str:
    """Which of two new streets is built after the other; '' where neither is."""
    if not (is_new(q, street) and is_new(q, other)):
        return NEITHER
    first, second = sorted((street, other))
    for order in parts.owned(q, BuildOrder, first):
        if order.second == second:
            return order.later
    for one, rest in ((street, other), (other, street)):
        if any(rest in kind.built_before(q, one) for kind in kinds()):
            return one
    return NEITHER


@gate
def within_reach(q: Engine, street: str) -> tuple[str, ...]:
    """Other streets so near that a street's earthworks may meet theirs."""
    w, s, e, n = box(q, street)
    reach = 2.0 * (parts.settings(q).batter_reach + _WIDE)
    return tuple(i for i in streets_in(q, (w - reach, s - reach, e + reach, n + reach)) if i != street)


@query
def wanted_before(q: Engine, street: str) -> tuple[str, ...]:
    """The streets within reach of a street that are to be built before it."""
    return tuple(o for o in within_reach(q, street) if later_of(q, street, o) == street)


@query
def built_before(q: Engine, street: str) -> tuple[str, ...]:
    """The streets within reach of a street that are built before it, in their order. One that would itself have to wait for it is not."""
    found = [o for o in wanted_before(q, street) if street not in all_before(q, o)]
    return tuple(sorted(found, key=lambda o: (len(all_before(q, o)), o)))


def all_before(q: Engine, street: str) -> set[str]:
    """Every street that is to be built before one, directly or through others."""
    found: set[str] = set()
    waiting = [street]
    while waiting:
        new = [o for o in wanted_before(q, waiting.pop()) if o not in found]
        found.update(new)
        waiting += new
    return found


def ordered_beside(q: Engine, street: str) -> tuple[str, ...]:
    """The streets before or after which a street is built."""
    return tuple(o for o in within_reach(q, street) if later_of(q, street, o) != NEITHER)


def order_choice(q: Engine, street: str, other: str, title: str) -> Choice | None:
    """Which of two streets is built later, as a choice; None where one of them is there already."""
    if not (is_new(q, street) and is_new(q, other)):
        return None
    options = ((NEITHER, "neither"), (street, name_of(q, street)), (other, name_of(q, other)))
    return Choice(title, options, later_of(q, street, other), lambda v: decided_order(street, other, v))


def recut_orders(site: Site, street: str, rest: str) -> Site:
    """The site after a street was cut: what is left of it, and the ``rest``, are built in its order. See ``Kind.recut``."""
    return _told_of(site, street, rest, keep=True) if rest else site


def rejoined_orders(site: Site, gone: str, street: str) -> Site:
    """The site after a street became part of another, whose own order stays as it was decided. See ``Kind.rejoined``."""
    return _told_of(site, gone, street, keep=False)


def _told_of(site: Site, street: str, other: str, *, keep: bool) -> Site:
    """What was decided of ``street`` decided of ``other``, where nothing is yet."""
    for old in site.all(BuildOrder):
        if street not in (old.first, old.second):
            continue
        if not keep:
            site = site.without(BuildOrder, old.id)
        first, second = sorted(other if s == street else s for s in (old.first, old.second))
        if first != second and site.find(BuildOrder, f"{first}:{second}") is None:
            later = other if old.later == street else old.later
            site = site.put(changed(old, id="", first=first, second=second, later=later))
    return site


def ring_through(q: Engine, street: str) -> tuple[str, ...]:
    """The streets that are to be built before one and yet wait for it; none where there is no ring."""
    return tuple(o for o in wanted_before(q, street) if street in all_before(q, o))
