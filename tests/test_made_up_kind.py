"""A newcomer adds a kind: one room, here in the test itself, and it stands everywhere else by itself.

The kind is a plinth: a rectangular block beside a street, standing on its boundary line. Nothing of it is known
anywhere in the application.
"""

import json
from dataclasses import dataclass
from typing import ClassVar

import ezdxf
import numpy as np
import pytest
from lxml import etree

from humble_loop import cli
from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site, schema
from humble_loop.geometry.chain import Chain
from humble_loop.kinds.street import StreetLine
from humble_loop.lines.describe import Drawing, Fact, Handle, Mark, SetOutPoint, Stroke, Told, Typed, joined_up
from humble_loop.lines.faces import FaceId, Patch
from humble_loop.lines.findings import Finding, Mend, too_low
from humble_loop.lines.kind import Kind, Parcel
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.quantity import amount, elsewhere, summed, times
from humble_loop.lines.rules import Fixed
from humble_loop.lines.standing import also
from humble_loop.lines.table import Table
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.edits import changed, the
from humble_loop.site.model import Named, Size
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_things
from tests.conftest import t_site


class Plinth(Named):
    """A block beside a street: where along it, how far out, how large and how high above the boundary."""

    collection: ClassVar[str] = "plinths"
    words: ClassVar[str] = "plinth"
    owned_by: ClassVar[str] = "streets"

    street: str
    chainage: float
    out: Size = 12.0
    size: Size = 4.0
    height: float = 0.3

    @property
    def owner(self):
        return self.street


def set_plinth(site, id, **values):
    return site.put(changed(the(site, Plinth, id), **values))


@dataclass(frozen=True)
class PlinthEdge(LineId):
    id: str
    kind: ClassVar[str] = "plinth"

    @property
    def thing(self):
        return ThingId("plinth", self.id)


@dataclass(frozen=True)
class PlinthTop(FaceId):
    id: str
    kind: ClassVar[str] = "plinth"

    @property
    def thing(self):
        return ThingId("plinth", self.id)


class Plinths(Kind):
    """Everything there is to know of plinths."""

    key, title, stage = "plinth", "Plinths", "Sections"
    models = (Plinth,)
    rules: ClassVar = {"plinth too low": "Sections"}

    def things(self, q):
        return tuple(ThingId(self.key, i) for i in parts.ids(q, Plinth))

    def name(self, q, thing):
        return parts.one(q, Plinth, thing.id).name

    def under(self, q, thing):
        return ThingId("street", parts.one(q, Plinth, thing.id).street)

    def ring(self, q, id):
        made = parts.one(q, Plinth, id)
        base, half = line_plan(q, StreetLine(made.street)).base, made.size / 2
        corners = ((-half, -half), (half, -half), (half, half), (-half, half))
        return np.array([base.points_at([made.chainage + a], made.out + b)[0] for a, b in corners])

    def lines(self, q, thing):
        return (PlinthEdge(thing.id),)

    def line_plan(self, q, id):
        ring = self.ring(q, id.id)
        chain = Chain.from_points(np.concatenate([ring, ring[:1]]))
        return LinePlan(f"{self.name(q, id.thing)} edge", "plinth edge", chain, Varying.steady(0.0), 0.0, chain.total)

    def level_rule(self, q, id):
        made = parts.one(q, Plinth, id.id)
        on = StreetLine(made.street, "boundary", "left")
        under = elsewhere("boundary", on, made.chainage, line(q, on).rule.levels([made.chainage]))
        top = summed(
            f"{made.name} top", "above the boundary", times("boundary", under), amount("its height", made.height)
        )
        return Fixed(f"{made.name} edge", top)

    def faces(self, q, thing):
        return (PlinthTop(thing.id),)

    def face(self, q, id):
        edge = line(q, PlinthEdge(id.id))
        corners = edge.points(edge.plan.base.starts[:-1])
        return Patch(self.name(q, id.thing), "plinth", corners, (), (PlinthEdge(id.id),))

    def findings(self, q, thing):
        made = parts.one(q, Plinth, thing.id)
        if not too_low(made.height, 0.15):
            return ()
        place = tuple(float(v) for v in self.ring(q, thing.id).mean(axis=0))
        mend = Mend("Make it 0.15 m high", lambda s: set_plinth(s, thing.id, height=0.15))
        words = (f"it is {made.height:g} m high, less than 0.15 m", "make it higher")
        return (Finding("plinth too low", thing, made.name, *words, made.height, 0.15, place=place, mend=mend),)

    def parcels(self, q, thing):
        made = parts.one(q, Plinth, thing.id)
        return (Parcel(made.name, self.ring(q, thing.id), made.size**2),)

    def set_out(self, q, thing):
        xyz = line(q, PlinthEdge(thing.id)).points([0.0])[0]
        name = self.name(q, thing)
        return (SetOutPoint(*(float(v) for v in xyz), name, 0.0, 0.0, name, "corner"),)

    def outline(self, q, thing):
        ring = self.ring(q, thing.id)
        return Drawing((Stroke("plinth edge", joined_up([np.concatenate([ring, ring[:1]])])),))

    def facts(self, q, thing):
        made = parts.one(q, Plinth, thing.id)
        return (
            Fact("height", "length", made.height, "set", lambda v: lambda s: set_plinth(s, thing.id, height=v)),
            Fact("top", "level", float(line(q, PlinthEdge(thing.id)).rule.levels([0.0])[0]), "tied"),
        )

    def handles(self, q, thing):
        made = parts.one(q, Plinth, thing.id)
        base, place = line_plan(q, StreetLine(made.street)).base, self.ring(q, thing.id).mean(axis=0)

        def moved(at):
            s = round(float(base.feet([at]).chainages[0]), 2)
            return (lambda site: set_plinth(site, thing.id, chainage=s)), (Told("at", "chainage", s, made.chainage),)

        typed = (Typed("length", "a chainage", lambda v: lambda site: set_plinth(site, thing.id, chainage=v)),)
        key = ("plinth", thing.id)
        return (Handle(key, (float(place[0]), float(place[1])), made.name, "square", moved, typed),)

    def section_line(self, q, thing):
        return StreetLine(parts.one(q, Plinth, thing.id).street)

    def ribbon(self, q, street):
        mine = parts.owned(q, Plinth, street)
        half = [(p, p.size / 2) for p in mine]
        return tuple(
            Mark("box", "left", p.chainage - h, p.chainage + h, p.name, ThingId(self.key, p.id)) for p, h in half
        )

    def at(self, q, thing, place):
        inside = np.abs(self.ring(q, thing.id).mean(axis=0) - np.array(place)).max() < 2.0
        return 0.0 if inside else np.inf

    tables: ClassVar = {
        "plinths": lambda q, of, every: Table(
            ("plinth", "height"), tuple((p.name, p.height) for p in q.site.all(Plinth) if of in (None, p.name))
        )
    }


# The through street of the T runs east along 20 + 0.02 x; its left boundary stands at x = 40 at
# 20.8 - 0.03 * 3.5 + 0.125 + 0.02 * 4.2, whatever lies outside it.
TOP = 20.8 - 0.105 + 0.125 + 0.084 + 0.3


@pytest.fixture
def site():
    with also(Plinths()):
        yield t_site().put(Plinth(name="Plinth one", street="through", chainage=40.0))


@pytest.fixture
def file(site, tmp_path):
    path = tmp_path / "plinth.hloop"
    save_site(site, path)
    return path


def test_it_comes_back_from_its_file_and_stands_in_the_schema(site, file):
    assert load_site(file).all(Plinth) == site.all(Plinth)
    assert schema()["properties"]["site"]["properties"]["plinths"]["type"] == "array"


def test_it_stands_in_the_finished_surface(site):
    q = Engine(site)
    assert ThingId("plinth", "plinth-one") in all_things(q)
    found = probe(q, 40.0, 12.0)
    assert found.title == "Plinth one"
    assert found.finished == pytest.approx(TOP, abs=1e-9)


def test_its_rule_its_remedy_and_its_table(site):
    low = set_plinth(site, "plinth-one", height=0.1)
    found = next(f for f in findings(Engine(low)) if f.rule == "plinth too low")
    assert found.of == ThingId("plinth", "plinth-one")
    assert not [f for f in findings(Engine(found.mend.apply(low))) if f.rule == "plinth too low"]
    assert table(Engine(low), "plinths").rows == (("Plinth one", 0.1),)
    assert ("Plinth one", "Plinth one") in {(r[4], r[7]) for r in table(Engine(site), "setout").rows}
    assert any(r[0] == "Plinth one" and r[1] == "plinth" for r in table(Engine(site), "volumes").rows)


def test_the_command_line_tells_its_trail_and_its_table(site, file, capsys):
    assert cli.run(["probe", str(file), "--at", "40,12", "--trail"]) == 0
    out = capsys.readouterr().out
    assert "Plinth one top" in out
    assert "+0.3000  its height" in out
    assert "Through crown at 40.00" in out
    assert cli.run(["report", str(file), "--table", "plinths", "--format", "json"]) == 0
    assert json.loads(capsys.readouterr().out) == [{"plinth": "Plinth one", "height": 0.3, "unit": "m"}]


def test_landxml_and_dxf_hold_it(file, tmp_path, capsys):
    for ending in ("xml", "dxf"):
        assert cli.run(["export", str(file), "--to", str(tmp_path / f"out.{ending}")]) == 0
    names = {e.get("name") for e in etree.parse(str(tmp_path / "out.xml")).getroot().iter() if e.get("name")}
    assert "Plinth one" in names  # its parcel
    levels = [float(p.text.split()[2]) for p in etree.parse(str(tmp_path / "out.xml")).getroot().iter("{*}P")]
    assert any(abs(z - TOP) < 1e-9 for z in levels)  # its corners in the finished surface
    drawing = ezdxf.readfile(tmp_path / "out.dxf")
    edges = [e for e in drawing.modelspace() if e.dxf.layer == "plinth edge"]
    assert [v.dxf.location.z for v in edges[0].vertices] == pytest.approx([TOP] * len(edges[0].vertices))


def test_it_is_taken_away_with_its_street(site):
    from humble_loop.kinds.street.edits import remove_street

    assert remove_street(site, "through").all(Plinth) == ()
