"""The query engine: reuse, early cut-off, rings, confined failures, and incremental equal to afresh."""

import gc
import time
import weakref
from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from humble_loop.engine import query as engine_module
from humble_loop.engine.query import Cancelled, Engine, Ring, Stats, Unsolved, gate, part, query
from humble_loop.engine.same import same, sealed
from tests.conftest import examples


@dataclass(frozen=True)
class Number:
    """A thing with an id, an owner and a value: all that the engine knows of documents."""

    id: str
    value: float
    owner: str = "all"


@dataclass(frozen=True)
class Store:
    """A document of numbers."""

    numbers: tuple[Number, ...]

    def fields(self):
        return {"numbers": self.numbers}


def site_with(**levels: float):
    return Store(tuple(Number(k, v) for k, v in levels.items()))


@part("numbers")
def number(site, name: str) -> float:
    found = next((n.value for n in site.numbers if n.id == name), None)
    if found is None:
        raise Unsolved(name, "it is not there")
    return found


@query
def rounded(q, name: str) -> int:
    return round(number(q, name))


@query
def doubled(q, name: str) -> int:
    return 2 * rounded(q, name)


@query
def chosen(q) -> float:
    """Reads b only while a is positive."""
    return number(q, "b") if number(q, "a") > 0 else 0.0


@query
def array(q) -> np.ndarray:
    return np.array([round(number(q, "a")), np.nan])


@query
def on_array(q) -> float:
    return float(array(q)[0])


def test_a_result_is_worked_out_once():
    q = Engine(site_with(a=1.2))
    assert doubled(q, "a") == doubled(q, "a") == 2
    assert q.stats.computed == {"doubled": 1, "rounded": 1}


def test_an_unrelated_change_works_nothing_out():
    q = Engine(site_with(a=1.2, b=5.0))
    doubled(q, "a")
    q.stats = Stats()
    q.use(site_with(a=1.2, b=9.0))
    assert doubled(q, "a") == 2
    assert q.stats.total == 0


def test_early_cut_off_spares_what_rests_on_an_equal_result():
    q = Engine(site_with(a=1.2))
    doubled(q, "a")
    q.stats = Stats()
    q.use(site_with(a=1.3))
    assert doubled(q, "a") == 2
    assert q.stats.computed == {"rounded": 1}
    assert q.stats.cut_off == 1
    q.use(site_with(a=2.6))
    assert doubled(q, "a") == 6


def test_an_equal_array_keeps_its_identity_and_spares_its_readers():
    q = Engine(site_with(a=1.2))
    before = array(q)
    assert on_array(q) == 1.0
    q.stats = Stats()
    q.use(site_with(a=0.9))
    assert on_array(q) == 1.0
    assert array(q) is before
    assert q.stats.computed == {"array": 1}


def test_what_is_no_longer_read_no_longer_matters():
    q = Engine(site_with(a=1.0, b=5.0))
    assert chosen(q) == 5.0
    q.use(site_with(a=-1.0, b=5.0))
    assert chosen(q) == 0.0
    q.stats = Stats()
    q.use(site_with(a=-1.0, b=7.0))
    assert chosen(q) == 0.0
    assert q.stats.total == 0
    q.use(site_with(a=2.0, b=8.0))
    assert chosen(q) == 8.0


def test_changes_over_several_sites_without_asking_are_all_seen():
    q = Engine(site_with(a=1.0))
    assert doubled(q, "a") == 2
    for value in (2.0, 3.0, 4.0):
        q.use(site_with(a=value))
    assert doubled(q, "a") == 8
    q.use(site_with(a=1.0))
    q.use(site_with(a=4.0))
    assert doubled(q, "a") == 8


@query
def fails(q, name: str) -> float:
    value = number(q, name)
    if value < 0:
        raise Unsolved(name, "it is below zero", "raise it")
    return value


@query
def total(q) -> float:
    """Goes on without what fails."""
    values = [q.attempt(fails, n) for n in ("a", "b", "c")]
    return sum(v for v in values if not isinstance(v, Unsolved))


@query
def both(q) -> float:
    return fails(q, "a") + fails(q, "b")


def test_a_failure_is_confined_to_its_thing():
    q = Engine(site_with(a=1.0, b=-2.0, c=4.0))
    assert total(q) == 5.0
    with pytest.raises(Unsolved, match="below zero"):
        both(q)
    q.use(site_with(a=1.0, b=2.0, c=4.0))
    assert total(q) == 7.0
    assert both(q) == 3.0


def test_a_failure_that_stays_the_same_is_cut_off_too():
    q = Engine(site_with(a=1.0, b=-2.0, c=4.0))
    total(q)
    q.stats = Stats()
    q.use(site_with(a=1.0, b=-3.0, c=4.0))
    assert total(q) == 5.0
    assert q.stats.computed == {"fails": 1}


def test_arithmetic_that_goes_wrong_becomes_a_finding_not_a_crash():
    @query
    def divided(q) -> float:
        return 1.0 / number(q, "a")

    q = Engine(site_with(a=0.0))
    found = q.attempt(divided)
    assert isinstance(found, Unsolved)
    assert "divided" in found.thing


def test_a_missing_part_fails_and_comes_back():
    q = Engine(site_with(b=1.0))
    assert isinstance(q.attempt(doubled, "a"), Unsolved)
    q.use(site_with(a=3.0, b=1.0))
    assert doubled(q, "a") == 6


@query
def follows(q, i: int) -> float:
    """The level of i rests on the thing that part 'i' names, or is its own number when that is negative."""
    to = number(q, str(i))
    return -to if to < 0 else follows(q, int(to)) + 1.0


@query
def survey_of_rings(q) -> tuple:
    return tuple(str(v) if isinstance(v := q.attempt(follows, i), Unsolved) else v for i in range(4))


def test_a_ring_is_refused_with_the_ring_spelled_out_and_the_rest_goes_on():
    # 0 -> 1 -> 2 -> 0 is a ring; 3 is free.
    q = Engine(site_with(**{"0": 1.0, "1": 2.0, "2": 0.0, "3": -7.0}))
    with pytest.raises(Ring) as caught:
        follows(q, 1)
    assert caught.value.ring == ("follows 0", "follows 1", "follows 2", "follows 0")
    assert follows(q, 3) == 7.0


def test_a_ring_reads_the_same_wherever_it_is_entered():
    site = site_with(**{"0": 1.0, "1": 2.0, "2": 0.0, "3": 1.0})
    words = set()
    for first in range(3):
        q = Engine(site)
        words.add(str(q.attempt(follows, first)))
    assert len(words) == 1


def test_a_ring_that_is_cut_is_solved_and_one_that_is_tied_is_found():
    q = Engine(site_with(**{"0": 1.0, "1": 2.0, "2": -5.0, "3": -1.0}))
    assert survey_of_rings(q) == (7.0, 6.0, 5.0, 1.0)
    q.use(site_with(**{"0": 1.0, "1": 2.0, "2": 0.0, "3": -1.0}))
    got = survey_of_rings(q)
    assert all("follows at last from itself" in str(v) for v in got[:3])
    assert got[3] == 1.0
    q.use(site_with(**{"0": 1.0, "1": 2.0, "2": -5.0, "3": -1.0}))
    assert survey_of_rings(q) == (7.0, 6.0, 5.0, 1.0)


@examples(150)
@given(
    st.lists(st.lists(st.integers(-4, 5), min_size=6, max_size=6), min_size=2, max_size=7),
    st.lists(st.integers(0, 5), min_size=1, max_size=6),
)
def test_incremental_is_afresh_on_random_graphs_with_rings(series, asked):
    """Any series of changes, rings and all, gives what solving afresh gives."""

    def site(row):
        return site_with(**{str(i): float(v if v != i else -v - 1) for i, v in enumerate(row)})

    q = Engine(site(series[0]))
    for row in series:
        q.use(site(row))
        fresh = Engine(site(row))
        for i in asked:
            a, b = q.attempt(follows, i), fresh.attempt(follows, i)
            assert type(a) is type(b)
            assert str(a) == str(b) if isinstance(a, Unsolved) else a == b


# Gates


@query
def winding(q, i: int) -> float:
    """Node i rests on the node that part 'i' names, or is a number; odd nodes are gates that let through only halves."""
    to = number(q, str(i))
    if to < 0:
        return -to
    return (narrow(q, int(to)) if int(to) % 2 else winding(q, int(to))) + 1.0


@gate
def narrow(q, i: int) -> float:
    return winding.function(q, i) // 2


def node(i: int):
    return narrow if i % 2 else winding


@query
def survey_of_windings(q) -> tuple:
    return tuple(str(v) if isinstance(v := q.attempt(node(i), i), Unsolved) else v for i in range(6))


@examples(300)
@given(
    st.lists(
        st.tuples(
            st.lists(st.integers(-9, 5), min_size=6, max_size=6),
            st.lists(st.integers(0, 6), min_size=0, max_size=4),
        ),
        min_size=2,
        max_size=9,
    )
)
# Rings of gates: one is met again while it is being worked out, and must not be left as marked but not waiting.
@example([([4, 3, -4, 5, -5, 3], [6]), ([4, -1, -4, 5, -5, 3], [6])])
@example([([5, -9, 5, -6, -9, 2], [6]), ([-1, -9, 5, -6, -9, 2], [6])])
def test_incremental_is_afresh_with_gates_and_rings_whatever_is_asked_between(series):
    def site(row):
        return site_with(**{str(i): float(v if v != i else -v - 1) for i, v in enumerate(row)})

    q = Engine(site(series[0][0]))
    for row, asked in series:
        q.use(site(row))
        fresh = Engine(site(row))
        for i in asked:
            what = (survey_of_windings,) if i == 6 else (node(i), i)
            a, b = q.attempt(*what), fresh.attempt(*what)
            assert type(a) is type(b)
            assert str(a) == str(b) if isinstance(a, Unsolved) else a == b


@examples(200)
@given(
    st.lists(
        st.tuples(
            st.lists(st.integers(-9, 5), min_size=6, max_size=6),
            st.lists(st.integers(0, 6), min_size=0, max_size=4),
            st.integers(0, 9),
        ),
        min_size=3,
        max_size=9,
    )
)
def test_tidying_in_the_middle_of_anything_changes_no_answer(series):
    """Results are dropped as soon as nothing asked for them lately, step by step, with questions between the steps."""

    def site(row):
        return site_with(**{str(i): float(v if v != i else -v - 1) for i, v in enumerate(row)})

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(engine_module, "_REMEMBERED", 1)
        patch.setattr(engine_module, "_STEP", 1)
        patch.setattr(engine_module, "_SMALL", 0)
        q = Engine(site(series[0][0]))
        q._sweep_above = 0
        for row, asked, steps in series:
            q.use(site(row))
            fresh = Engine(site(row))
            tidying = q.tidy()
            for i in [*asked, 0]:
                for _ in zip(range(steps), tidying):
                    pass
                what = (survey_of_windings,) if i == 6 else (node(i), i)
                a, b = q.attempt(*what), fresh.attempt(*what)
                assert str(a) == str(b) if isinstance(a, Unsolved) else a == b
            q._sweep_above = 0


@gate
def tens(q, name: str) -> float:
    return number(q, name) // 10


@query
def sum_of_tens(q) -> float:
    return sum(tens(q, f"n{i}") for i in range(500))


@query
def share(q, i: int) -> float:
    return sum_of_tens(q) + i


def test_what_rests_on_a_gate_is_not_asked_when_the_gate_holds():
    def site(first):
        return site_with(**{f"n{i}": first if i == 0 else 11.0 for i in range(500)})

    q = Engine(site(11.0))
    assert [share(q, i) for i in range(500)] == [500.0 + i for i in range(500)]
    q.stats = Stats()
    q.use(site(12.0))
    assert share(q, 3) == 503.0
    assert q.stats.computed == {"tens": 1}
    assert q.stats.reused < 10
    q.use(site(25.0))
    assert share(q, 3) == 504.0
    assert share(q, 4) == 505.0


def test_gates_wait_until_something_above_them_is_asked_for():
    q = Engine(site_with(n0=11.0, **{f"n{i}": 1.0 for i in range(1, 500)}))
    assert share(q, 0) == 1.0
    assert doubled(q, "n0") == 22
    q.stats = Stats()
    q.use(site_with(n0=31.0, **{f"n{i}": 1.0 for i in range(1, 500)}))
    assert doubled(q, "n0") == 62
    assert "tens" not in q.stats.computed
    assert share(q, 0) == 3.0


def test_statistics_count_and_time():
    q = Engine(site_with(a=1.0))
    doubled(q, "a")
    doubled(q, "a")
    assert q.stats.total == 2
    assert q.stats.reused >= 1
    assert q.stats.seconds > 0


def test_work_can_be_cancelled_and_taken_up_again():
    q = Engine(site_with(a=1.0))
    q.cancelled = lambda: True
    with pytest.raises(Cancelled):
        doubled(q, "a")
    q.cancelled = lambda: False
    assert doubled(q, "a") == 2


def test_keyword_arguments_are_refused_so_that_one_question_has_one_key():
    q = Engine(site_with(a=1.0))
    with pytest.raises(TypeError):
        doubled(q, name="a")


@pytest.mark.parametrize(
    ("a", "b", "equal"),
    [
        (np.array([1.0, np.nan]), np.array([1.0, np.nan]), True),
        (np.array([1.0]), np.array([1]), False),
        (np.array([1.0]), np.array([[1.0]]), False),
        ((1, (2.0, float("nan"))), (1, (2.0, float("nan"))), True),
        ({"a": np.zeros(2)}, {"a": np.zeros(2)}, True),
        ({"a": 1}, {"b": 1}, False),
        (1, True, False),
        ([1, 2], (1, 2), False),
    ],
)
def test_equality_of_results(a, b, equal):
    assert same(a, b) is equal


# Things keyed by id and owner


@part("numbers", keyed="id")
def one(site, id: str) -> float:
    found = next((n.value for n in site.numbers if n.id == id), None)
    if found is None:
        raise Unsolved(id, "it is not there")
    return found


@part("numbers", keyed="owner")
def owned(site, owner: str) -> float:
    return sum(n.value for n in site.numbers if n.owner == owner)


@query
def ten_times(q, id: str) -> float:
    return 10 * one(q, id)


@query
def owners_sum(q, owner: str) -> float:
    return owned(q, owner)


def test_a_thing_edited_among_many_touches_what_reads_it_and_its_owner_only():
    many = tuple(Number(str(i), float(i), f"o{i % 50}") for i in range(2000))
    q = Engine(Store(many))
    for i in range(2000):
        ten_times(q, str(i))
    for k in range(50):
        owners_sum(q, f"o{k}")
    q.stats = Stats()
    q.use(Store((*many[:7], Number("7", 70.0, "o7"), *many[8:])))
    assert [ten_times(q, str(i)) for i in range(2000)][7] == 700.0
    assert owners_sum(q, "o7") == pytest.approx(sum(range(7, 2000, 50)) + 63.0)
    assert owners_sum(q, "o8") == pytest.approx(sum(range(8, 2000, 50)))
    assert q.stats.computed == {"ten_times": 1, "owners_sum": 1}


def test_a_thing_that_changes_its_owner_is_seen_by_both():
    q = Engine(Store((Number("a", 1.0, "x"), Number("b", 2.0, "y"))))
    assert (owners_sum(q, "x"), owners_sum(q, "y")) == (1.0, 2.0)
    q.use(Store((Number("a", 1.0, "y"), Number("b", 2.0, "y"))))
    assert (owners_sum(q, "x"), owners_sum(q, "y")) == (0.0, 3.0)


# Depth, memory, and results that nobody can change


@query
def chained(q, i: int) -> float:
    """Rests on the one before, all the way down."""
    return number(q, "base") if i == 0 else chained(q, i - 1) + 1.0


def test_queries_may_rest_on_each_other_ten_thousand_deep():
    q = Engine(site_with(base=5.0))
    assert chained(q, 10_000) == 10_005.0
    q.use(site_with(base=6.0))
    assert chained(q, 10_000) == 10_006.0


@query
def long_ring(q, i: int) -> float:
    return long_ring(q, (i + 1) % 300)


def test_a_ring_longer_than_a_dive_is_still_spelled_out():
    with pytest.raises(Ring) as caught:
        long_ring(Engine(site_with(base=1.0)), 0)
    assert len(caught.value.keys) == 300


def test_a_deep_failure_reaches_those_that_rest_on_it_and_goes_away_again():
    q = Engine(site_with(other=1.0))
    assert isinstance(q.attempt(chained, 500), Unsolved)
    q.use(site_with(base=1.0))
    assert chained(q, 500) == 501.0


def test_what_nothing_asks_for_any_more_is_dropped_and_comes_back_when_asked():
    q = Engine(Store((Number("a", 0.0),)))
    sizes = []
    for k in range(10_000):
        q.use(Store((Number("a", float(k)), Number(f"extra{k}", 1.0, f"o{k}"))))
        assert ten_times(q, "a") == 10 * k
        assert ten_times(q, f"extra{k}") == 10.0  # asked once, and never again
        assert owners_sum(q, f"o{k}") == 1.0
        sizes.append(len(q))
    assert max(sizes[5000:]) <= 1.05 * max(sizes[:5000])
    assert max(sizes) < 10_000
    assert ten_times(q, f"extra{k}") == 10.0


@pytest.mark.parametrize("how", ["dropped", "forgotten"])
def test_what_is_dropped_is_freed_at_once_though_results_know_one_another(how):
    class Thing:
        """Something that can be watched."""

    @query
    def made(q, k: int) -> Thing:
        number(q, "a")
        return Thing()

    @query
    def over(q, k: int) -> bool:
        return made(q, k) is not None

    q = Engine(Store((Number("a", 0.0),)))
    gc.collect()
    gc.disable()
    try:
        assert over(q, 1)
        kept = weakref.ref(made(q, 1))
        assert kept() is not None
        if how == "forgotten":
            q.forget()
        for k in range(6_000 if how == "dropped" else 0):
            q.use(Store((Number("a", float(k)), Number(f"extra{k}", 1.0, f"o{k}"))))
            ten_times(q, f"extra{k}")
        assert kept() is None
    finally:
        gc.enable()


def test_results_cannot_be_changed_by_who_reads_them():
    @dataclass(frozen=True)
    class Result:
        rows: tuple

    @query
    def made(q) -> Result:
        return Result((np.arange(3.0), (np.arange(2),)))

    got = made(Engine(site_with(a=1.0)))
    with pytest.raises(ValueError, match="read-only"):
        got.rows[0][0] = 9.0
    with pytest.raises(ValueError, match="read-only"):
        got.rows[1][0][0] = 9
    assert sealed("text") == "text"


class Odd(Exception):
    """What a library might raise."""


def test_any_exception_of_a_query_stays_in_its_thing():
    @query
    def odd(q, name: str) -> float:
        raise Odd(f"{number(q, name)} is odd")

    q = Engine(site_with(a=1.0))
    q.strict = False
    found = q.attempt(odd, "a")
    assert isinstance(found, Unsolved)
    assert "is odd" in found.message
    assert isinstance(found.__cause__, Odd)
    assert doubled(q, "a") == 2


def test_work_within_a_time_ends_with_it_and_what_is_done_by_then_stays_known():
    worked_out = []

    @query
    def slow(q, k):
        worked_out.append(k)
        time.sleep(0.02)
        return k

    @query
    def together(q):
        return sum(slow(q, k) for k in range(20))

    q = Engine(site_with(a=1.2))
    with pytest.raises(Cancelled), q.within(0.1):
        together(q)
    first = len(worked_out)
    assert 2 <= first < 20
    assert together(q) == 190  # and without a limit it goes on from there
    assert len(worked_out) == 20


def test_an_engine_that_stays_answers_alike_keeps_what_it_knows_and_begins_afresh_elsewhere():
    worked_out = []

    @query
    def twice(q, name):
        worked_out.append(name)
        return 2 * number(q, name)

    @query
    def rings(q, step):
        return rings(q, (step + 1) % 3)

    q = Engine(site_with(a=1.5), stays=True)
    assert [twice(q, "a"), twice(q, "a"), worked_out] == [3.0, 3.0, ["a"]]
    assert "it is not there" in str(q.attempt(twice, "b"))
    assert isinstance(q.attempt(rings, 0), Ring)
    q.use(site_with(a=4.0))
    assert twice(q, "a") == 8.0
