"""Sites that make no sense: nothing raises but our own sentences, and every table still prints."""

import contextlib
from dataclasses import replace

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.desk.drawing import cross_view, details, outline, section_view
from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.ground.surface import Surface
from humble_loop.kinds.fall_window.levels import all_windows
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.lot.clear import _path, _reaching
from humble_loop.kinds.street import Bend, Street, StreetLine, Vip
from humble_loop.lines.line import line_plan
from humble_loop.lines.standing import kind_of
from humble_loop.site.libraries import new_site
from humble_loop.whole.delivery import delivery
from humble_loop.whole.findings import findings
from humble_loop.whole.finished import whole_surface
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table, tables
from humble_loop.whole.things import all_things
from humble_loop.whole.trail import trail_at
from tests import edits
from tests.conftest import examples, rolling_ground
from tests.kinds.test_sections import straight

GROUND = rolling_ground(400)
places = st.sampled_from(
    [(0, 0), (0, 0), (100, 0), (100, 80), (50, 0), (50, 40), (99.9, 0.1), (300, 300), (2000, 2000), (50, -60)]
)
bend = st.builds(
    lambda p, r, a, b: Bend(easting=p[0], northing=p[1], radius=r, transition_in=a, transition_out=b),
    places,
    st.sampled_from([0, 0, 5, 30, 1000, 1e6]),
    st.sampled_from([0, 0, 20, 500]),
    st.sampled_from([0, 0, 20]),
)
vips = st.lists(
    st.tuples(st.sampled_from([-5.0, 0.0, 3.0, 40.0, 90.0, 1e5]), st.floats(-100, 100), st.booleans()),
    max_size=3,
    unique_by=lambda v: v[0],
)
head = st.one_of(
    st.none(),
    st.builds(
        dict,
        radius=st.sampled_from([1.0, 9.5, 60.0]),
        return_radius=st.sampled_from([0.5, 15.0]),
        offset=st.sampled_from([0.0, 4.0, -40.0]),
    ),
)
street = st.tuples(st.lists(bend, min_size=2, max_size=4), vips, head, st.sampled_from(["new", "new", "existing"]))
row = st.tuples(
    st.integers(0, 2),
    st.sampled_from(["left", "right", "head"]),
    st.sampled_from([3.0, 18.0, 500.0]),
    st.sampled_from([0.5, 30.0, 400.0]),
)


def make(streets, rows, ground):
    site = new_site()
    if ground is not None:
        site = edits.add_ground(site, Ground(name="g", surface=ground))
    for bends, levels, bulb, kind in streets:
        made = [
            Vip(chainage=s, grade=z / 1000) if by_grade else Vip(chainage=s, level=z)
            for s, z, by_grade in sorted(levels)
        ]
        site = edits.add_street(site, "S", bends, vips=tuple(made), kind=kind)
        if bulb:
            site = edits.set_head(site, site.all(Street)[-1].id, **bulb)
    for i, place, frontage, depth in rows:
        if i < len(site.all(Street)):
            site = edits.add_lot_row(site, site.all(Street)[i].id, place, frontage=frontage, depth=depth)
    return site


@examples(24)
@given(st.lists(street, min_size=1, max_size=3), st.lists(row, max_size=2), st.sampled_from([GROUND, GROUND, None]))
def test_no_site_brings_the_working_out_down(streets, rows, ground):
    q = Engine(make(streets, rows, ground))
    for name in tables():
        of = q.site.all(Street)[0].id if name in ("centreline", "levels") else None
        # Only a thing asked for by name may refuse; a table of the whole site leaves out what it must.
        with contextlib.suppress(Unsolved) if of is not None else contextlib.nullcontext():
            made = table(q, name, of)
            assert all(v is None or np.isfinite(v) for r in made.rows for v in r if not isinstance(v, str))
    for f in findings(q):
        assert f.message
        assert "\n" not in f.message
    whole_surface(q)
    for e, n in ((50.0, 0.0), (51.0, 3.0), (1e7, 1e7)):
        probe(q, e, n)
        with contextlib.suppress(Unsolved):
            trail_at(q, e, n)
    for thing in all_things(q):
        kind = kind_of(thing.kind)
        for what in (outline, details):
            q.attempt(what, thing)
        for tell in (kind.facts, kind.sheets, kind.handles, kind.section_handles, kind.name):
            with contextlib.suppress(Unsolved):
                tell(q, thing)
    for s in q.site.all(Street):
        q.attempt(section_view, StreetLine(s.id))
        q.attempt(all_windows, StreetLine(s.id))
        with contextlib.suppress(Unsolved):
            cross_view(q, s.id, 20.0)
    delivery(q)


def test_an_empty_site_has_empty_tables():
    q = Engine(new_site())
    for name in tables():
        if name not in ("centreline", "levels"):
            assert table(q, name).rows == ()
    assert findings(q) == ()
    assert whole_surface(q).surface.empty


@pytest.mark.parametrize(
    "surface", [Surface(np.empty((0, 3)), np.empty((0, 3))), Surface([[0, 0, 1], [1, 0, 1], [0, 1, 1]], [[0, 1, 2]])]
)
def test_a_ground_of_nothing_or_next_to_nothing(surface):
    site = make(
        [
            (
                [Bend(easting=0, northing=0), Bend(easting=80, northing=0)],
                [(0.0, 5.0, False), (90.0, 6.0, False)],
                None,
                "new",
            )
        ],
        [(0, "left", 18.0, 30.0)],
        surface,
    )
    q = Engine(site)
    assert findings(q)
    assert not whole_surface(q).surface.empty


def test_a_lot_that_crosses_itself_does_not_bring_down_those_after_it():
    whole = shapely.box(0.0, 0.0, 10.0, 10.0)
    crossed = shapely.Polygon([(5, 5), (15, 9), (15, 5), (5, 9), (9, 2), (7, 12)])
    assert not crossed.is_valid
    work = InPieces(_reaching(whole, [], [("crossed", crossed)]))
    _, ((name, land),) = work.result(Engine(new_site()))
    assert name == "crossed"
    assert land.is_valid


def test_a_boundary_of_which_nothing_is_left_has_no_path(monkeypatch):
    q = Engine(straight())
    plan = replace(line_plan(q, StreetLine("line", "boundary", "left")), start=5.0, end=5.0)
    monkeypatch.setattr("humble_loop.kinds.lot.clear.line_plan", lambda q, id: plan)
    assert _path.function(q, StreetLine("line", "boundary", "left")).is_empty
