"""Long work that is given up goes on where it stood."""

from contextlib import suppress

import pytest

from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Cancelled, Engine, Unsolved, query
from humble_loop.site.libraries import new_site

done: list[int] = []


@query
def _counting(q: Engine, upto: int) -> InPieces[int]:
    def pieces():
        for k in range(upto):
            yield
            done.append(k)
            if k == 7:
                raise Unsolved("the eighth", "it cannot be counted", "count to seven")
        return upto

    return InPieces(pieces())


@query
def counted_to(q: Engine, upto: int) -> int:
    return _counting(q, upto).result(q)


@pytest.fixture
def engine():
    done.clear()
    return Engine(new_site())


def give_up_after(q: Engine, times: int) -> None:
    left = [times]

    def over() -> bool:
        left[0] -= 1
        return left[0] < 0

    q.cancelled = over


def test_work_that_is_given_up_goes_on_where_it_stood(engine):
    made, tries = None, 0
    while made is None and tries < 20:
        tries += 1
        give_up_after(engine, 4)  # two for the queries, and two pieces
        with suppress(Cancelled):
            made = counted_to(engine, 5)
    assert made == 5
    assert tries > 2
    assert done == [0, 1, 2, 3, 4]  # no piece twice
    engine.cancelled = lambda: False
    assert counted_to(engine, 5) == 5
    assert done == [0, 1, 2, 3, 4]


def test_what_cannot_be_worked_out_stays_so(engine):
    for _ in range(2):
        with pytest.raises(Unsolved, match="cannot be counted"):
            counted_to(engine, 9)
    with pytest.raises(Unsolved, match="cannot be counted"):
        _counting(engine, 9).result(engine)
    assert done == list(range(8))


def test_work_that_raised_anything_raises_it_each_time_it_is_asked_for(engine):
    """A generator that raised ends without a word when it is gone on with: its result would be None."""

    def pieces():
        yield
        raise ValueError("two points lie at one place")

    work = InPieces(pieces())
    for _ in range(3):
        with pytest.raises(ValueError, match="two points"):
            work.result(engine)
