"""Lines whose file is read again: what has changed is told, and taken line by line."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.again import line_changes, read_again, take
from humble_loop.formats.bring_in import Options, bring_in
from humble_loop.formats.errors import FormatError
from humble_loop.kinds.street import Bend, Street
from humble_loop.kinds.street.section import lip_levels
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site.libraries import new_site
from tests import edits
from tests.conftest import examples

E, N = 312_000.0, 6_252_000.0
KERB = [(0, 0, 50.0), (40, 0, 50.4), (80, 2, 50.8)]
FENCE = [(0, 20, 51.0), (80, 20, 51.5)]


def written(path, **lines):
    """A text file of lines by their codes."""
    rows = ["number,easting,northing,level,code"]
    for code, points in lines.items():
        rows += [f"{len(rows)},{E + x:.3f},{N + y:.3f},{z:.3f},{code}" for x, y, z in points]
    path.write_text("\n".join(rows) + "\n")
    return path


@pytest.fixture
def file(tmp_path):
    return written(tmp_path / "kerbs.csv", KERB1=KERB, FENCE1=FENCE)


@pytest.fixture
def site(file):
    return bring_in(new_site(), [file], Options(breakline_codes=("KERB", "FENCE")))[0]


def again(site, file):
    return read_again(site, file, Options(breakline_codes=("KERB", "FENCE")))


def test_what_is_as_it_was_is_not_told(site, file):
    assert [line.name for line in site.all(SurveyLine)] == ["KERB1", "FENCE1"]
    assert again(site, file) == ()


def test_what_moved_is_told_by_how_much_and_taken_line_by_line(site, file):
    written(
        file,
        KERB1=[(0, 0, 50.0), (40, 0.3, 50.4), (80, 2, 50.92)],
        FENCE1=[(0, 20, 51.0), (80, 20, 51.5), (90, 20, 51.5)],
    )
    kerb, fence = again(site, file)
    assert kerb.words == "KERB1: moved by 0.300 m at most, its level changed by 0.120 m at most"
    assert fence.words == "FENCE1: moved by 10.000 m at most, 3 points instead of 2"
    made = take(site, [kerb])
    assert made.find(SurveyLine, kerb.old.id).vertices[1][:2] == (E + 40, N + 0.3)
    assert [c.name for c in again(made, file)] == ["FENCE1"]
    assert again(take(site, [kerb, fence]), file) == ()


def test_new_lines_are_added_and_lost_ones_told(site, file):
    written(file, KERB1=KERB, WALL1=[(0, 30, 52.0), (80, 30, 52.0)])
    found = read_again(site, file, Options(breakline_codes=("KERB", "FENCE", "WALL")))
    gone, new = sorted(found, key=lambda c: c.old is None)
    assert (gone.words, new.words) == ("FENCE1: not in the file any more", "WALL1: new")
    made = take(site, [gone, new])
    assert sorted(line.name for line in made.all(SurveyLine)) == ["KERB1", "WALL1"]
    assert take(made, [gone]) == made  # it is gone already


def test_whatever_follows_a_line_goes_on_following_it(site, file):
    kerb = next(line for line in site.all(SurveyLine) if line.name == "KERB1")
    ends = [Bend(easting=E, northing=N - 3), Bend(easting=E + 80, northing=N - 3)]
    site = edits.add_street(site, "Old Road", ends, kind="existing", left_lip=kerb.id)
    written(file, KERB1=[(x, y, z + 0.25) for x, y, z in KERB], FENCE1=FENCE)
    made = take(site, again(site, file))
    assert made.find(Street, "old-road").left_lip == kerb.id
    before, after = (lip_levels(Engine(s), "old-road", "left", [40.0])[0] for s in (site, made))
    assert after - before == pytest.approx(0.25)


def test_of_lines_of_one_name_the_nearest_are_the_same():
    def line(y):
        return SurveyLine(name="KERB", vertices=((0.0, y, None), (50.0, y, None)))

    mine = [line(0.0), line(10.0), line(20.0)]
    found = line_changes(mine, [line(20.1), line(0.1), line(30.0)])
    told = {(c.old.vertices[0][1] if c.old else None, c.fresh.vertices[0][1] if c.fresh else None) for c in found}
    assert told == {(0.0, 0.1), (20.0, 20.1), (10.0, 30.0)}


def test_a_file_that_no_line_came_from_is_refused_in_a_sentence(site, tmp_path):
    other = written(tmp_path / "other.csv", KERB1=KERB)
    with pytest.raises(FormatError, match=r"no line of the site came from it; its lines came from kerbs\.csv"):
        again(site, other)


@given(st.permutations(range(4)), st.lists(st.floats(-0.4, 0.4), min_size=4, max_size=4))
@examples(40)
def test_after_taking_all_of_it_nothing_has_changed(order, by):
    mine = [SurveyLine(id=f"k{i}", name="KERB", vertices=((0.0, 5.0 * i, 1.0), (9.0, 5.0 * i, 1.0))) for i in range(4)]
    moved = [(i, by[i]) for i in order]
    fresh = [SurveyLine(name="KERB", vertices=((0.0, 5.0 * i + d, 1.0), (9.0, 5.0 * i + d, 1.0))) for i, d in moved]
    site = edits.add_survey_lines(new_site(), mine)
    changes = line_changes(mine, fresh)
    assert all(abs(c.moved - abs(by[int(c.old.id[1:])])) < 1e-9 for c in changes)
    made = take(site, changes)
    assert line_changes(made.all(SurveyLine), fresh) == ()
    assert np.array([v[1] for line in made.all(SurveyLine) for v in line.vertices[:1]]) == pytest.approx(
        np.array([5.0 * i + (by[i] if abs(by[i]) > 5e-4 else 0.0) for i in range(4)]), abs=6e-4
    )
