"""New ties: what a section point could follow, and the edit that lets it."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.ground.reads import current_id, surfaces_by_id
from humble_loop.kinds.street.holding import HeldPoint, as_it_runs
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of, near
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.side import course, drawn_side
from humble_loop.kinds.street.widening import lines_beside
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.kinds.tie.model import Source, add_tie
from humble_loop.kinds.tie.source import reach, source_of, words_of
from humble_loop.lines.line import line_plan
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import SIDES, Side, Site, other_side

_LEAST = 2.0  # metres of a stretch that is worth a tie
_TAPER = 5.0  # metres over which a new tie is come to, away from the ends of a lip: typical of what rides well at town speeds
_MOST_LINES = 12  # survey lines that are offered, the nearest first


def point_name(q: Engine, street: str, side: Side, name: str) -> str:
    """How the site keeps a section point: 'boundary' for the outermost."""
    return "boundary" if name == course(q, street, side).names[-1] else name


def tied(q: Engine, street: str, side: Side, name: str, source: Source) -> Edit:
    """The edit that ties a section point of a side, as the street runs, to a source: over the longest stretch that is free and
    along which the source is there. Raises EditError, when it is made, where there is none.
    """

    def edit(site: Site) -> Site:
        begin, finish = _stretch(q, site, street, side, name, source)
        low, high = own_range(q, street, side)
        taper = min(_TAPER, 0.25 * (finish - begin))
        tapers = [0.0 if begin <= low + 0.01 else taper, 0.0 if finish >= high - 0.01 else taper]
        span = [begin, finish]
        if frame_of(q, street).turned:
            total = chain_of(q, street).total
            span, tapers = [total - finish, total - begin], tapers[::-1]
        point, drawn = point_name(q, street, side, name), drawn_side(q, street, side)
        values = {"taper_in": tapers[0], "taper_out": tapers[1]}
        return add_tie(site, street, drawn, point, source, round(span[0], 4), round(span[1], 4), **values)

    return edit


def _stretch(q: Engine, site: Site, street: str, side: Side, name: str, source: Source) -> tuple[float, float]:
    title = f"the {side} {name} of '{name_of(q, street)}'"
    if not is_new(q, street):
        raise EditError(
            f"{title} is an existing street's: its levels are the ground's; make the street a new one first"
        )
    low, high = own_range(q, street, side)
    point, drawn = point_name(q, street, side, name), drawn_side(q, street, side)
    taken = []
    for model in HeldPoint.__subclasses__():
        for held in site.owned(model, street):  # not as the engine has it, which may be ahead while a tie is dragged
            if (held.side, held.point) == (drawn, point):
                taken.append(as_it_runs(q, held)[1:3])
    free, at = [], low
    for a, b in sorted(taken):
        free.append((at, min(a, high)))
        at = max(at, b)
    free.append((at, high))
    plan = line_plan(q, StreetLine(street, name, side))
    found = [there for a, b in free if b - a >= _LEAST and (there := reach(q, source, plan, a, b)) is not None]
    best = max(found, key=lambda f: f[1] - f[0], default=(0.0, 0.0))
    if best[1] - best[0] < _LEAST:
        if not any(b - a >= _LEAST for a, b in free):
            raise EditError(f"{title} is held all along already; change what holds it, or end that first")
        raise EditError(f"{words_of(q, source)} does not run beside {title}; choose something else for it to follow")
    return best


def could_follow(q: Engine, street: str, side: Side, name: str) -> tuple[tuple[Source, str], ...]:
    """What a section point of a side could follow, with words: the ground, other surfaces, survey lines beside it, other points of its street, and
    crowns and lips of streets near it. What would at last follow from itself is told when it is chosen.
    """
    found: list[Source] = [Source(), *(Source(of=id) for id, _ in surfaces_by_id(q) if id != current_id(q))]
    found += [source_of(q, SurveyedLine(id)) for id, _, at, *_ in lines_beside(q, street) if at == side][:_MOST_LINES]
    own = StreetLine(street, name, side)
    points = [StreetLine(street)]
    for other in (side, other_side(side)):
        points += [StreetLine(street, n, other) for n in course(q, street, other).names[1:]]
    for beside in near(q, street):
        points += [StreetLine(beside), *(StreetLine(beside, "lip", s) for s in SIDES)]
    for point in points:
        if point != own and not isinstance(q.attempt(line_plan, point), Unsolved):
            found.append(source_of(q, point))
    return tuple((s, words_of(q, s, street)) for s in found)


def first_source(q: Engine, street: str, side: Side) -> Source:
    """What a new tie follows until another is chosen: the nearest survey line beside a side, else the ground."""
    near_one = next((id for id, _, at, *_ in lines_beside(q, street) if at == side), None)
    return Source() if near_one is None else Source(what="line", of=near_one)


def written(source: Source) -> str:
    """A source as one word, for a list to choose from."""
    return "|".join((source.what, source.of, source.point, source.side or ""))


def read(word: str) -> Source:
    """The source of such a word."""
    what, of, point, side = word.split("|")
    return Source.model_validate({"what": what, "of": of, "point": point, "side": side or None})
