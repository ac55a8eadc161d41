"""What is written keeps LandXML 1.2: elements, their order, required attributes and types, as rules from the standard."""

import re
from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

import pytest
from lxml import etree

from humble_loop.engine.query import Engine
from humble_loop.formats.landxml import write_landxml
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.site.libraries import new_site
from humble_loop.whole.delivery import delivery
from tests import edits
from tests.conftest import court_site

NUMBER = r"[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?"
DOUBLE = re.compile(rf"{NUMBER}|INF")
POINT = re.compile(rf"{NUMBER}( {NUMBER}){{1,2}}")
WORDS = re.compile(r".+")


def one_of(*words):
    return re.compile("|".join(map(re.escape, words)))


STATE = one_of("abandoned", "destroyed", "existing", "proposed")


class Rule(NamedTuple):
    """An element: what must and may stand in it, in which order, and what its text is."""

    needs: Mapping = MappingProxyType({})
    may: Mapping = MappingProxyType({})
    order: tuple = ()  # children, in the order in which they have to come
    least: Mapping = MappingProxyType({})  # how many there are of a child at least
    text: re.Pattern | None = None


END = {"Start", "PI", "Center", "End"}
RULES = {
    "LandXML": Rule(
        {
            "version": one_of("1.2"),
            "date": re.compile(r"\d{4}-\d\d-\d\d"),
            "time": re.compile(r"\d\d:\d\d:\d\d(\.\d+)?"),
        },
        {"language": WORDS, "readOnly": one_of("true", "false")},
        ("Units", "CoordinateSystem", "Project", "Application", "Alignments", "Parcels", "PlanFeatures", "Surfaces"),
        {"Units": 1},
    ),
    "Units": Rule(order=("Metric", "Imperial"), least={"Metric": 1}),
    "Metric": Rule(
        {
            "linearUnit": one_of("millimeter", "centimeter", "meter", "kilometer"),
            "areaUnit": one_of("hectare", "squareMeter", "squareMillimeter", "squareCentimeter"),
            "volumeUnit": one_of("cubicMeter", "liter", "hectareMeter"),
            "temperatureUnit": one_of("celsius", "kelvin"),
            "pressureUnit": one_of("HPA", "milliBars", "mmHG", "millimeterHG"),
        },
        {
            "angularUnit": one_of("radians", "grads", "decimal degrees", "decimal dd.mm.ss"),
            "directionUnit": one_of("radians", "grads", "decimal degrees", "decimal dd.mm.ss"),
        },
    ),
    "Project": Rule({"name": WORDS}),
    "Application": Rule({"name": WORDS}, {"version": WORDS, "manufacturer": WORDS}),
    "Alignments": Rule({}, {"name": WORDS}, ("Alignment",), {"Alignment": 1}),
    "Alignment": Rule(
        {"name": WORDS, "length": DOUBLE, "staStart": DOUBLE},
        {},
        ("CoordGeom", "StaEquation", "Profile", "CrossSects"),
        {"CoordGeom": 1},
    ),
    "CoordGeom": Rule(order=({"Line", "Curve", "Spiral"},)),
    "Line": Rule({}, {"length": DOUBLE, "dir": DOUBLE}, ("Start", "End"), {"Start": 1, "End": 1}),
    "Curve": Rule(
        {"rot": one_of("cw", "ccw")},
        {"crvType": one_of("arc", "chord"), "radius": DOUBLE, "length": DOUBLE},
        ("Start", "Center", "End"),
        {"Start": 1, "Center": 1, "End": 1},
    ),
    "Spiral": Rule(
        {
            "length": DOUBLE,
            "radiusStart": DOUBLE,
            "radiusEnd": DOUBLE,
            "rot": one_of("cw", "ccw"),
            "spiType": one_of("clothoid", "bloss", "cosine", "sinusoid", "cubic", "biquadratic", "radioid"),
        },
        {},
        ("Start", "PI", "End"),
        {"Start": 1, "PI": 1, "End": 1},
    ),
    **{name: Rule(text=POINT) for name in END},
    "Profile": Rule({}, {"name": WORDS, "staStart": DOUBLE}, ("ProfSurf", "ProfAlign")),
    "ProfAlign": Rule({"name": WORDS}, {}, ({"PVI", "ParaCurve"},), {"PVI": 2}),
    "PVI": Rule(text=POINT),
    "ParaCurve": Rule({"length": DOUBLE}, text=POINT),
    "CrossSects": Rule({}, {"name": WORDS, "state": STATE}, ("CrossSect",), {"CrossSect": 1}),
    "CrossSect": Rule({"sta": DOUBLE}, {"name": WORDS, "desc": WORDS}, ("CrossSectSurf", "DesignCrossSectSurf"), {}),
    "CrossSectSurf": Rule({"name": WORDS}, {"state": STATE}, ("PntList2D",), {"PntList2D": 1}),
    "PntList2D": Rule(text=re.compile(rf"{NUMBER} {NUMBER}( {NUMBER} {NUMBER})+")),
    "DesignCrossSectSurf": Rule(
        {},
        {"name": WORDS, "state": STATE, "side": one_of("left", "right", "both")},
        ("CrossSectPnt",),
        {"CrossSectPnt": 1},
    ),
    "CrossSectPnt": Rule({}, {"code": WORDS, "desc": WORDS}, text=re.compile(rf"{NUMBER} {NUMBER}")),
    "Parcels": Rule({}, {"name": WORDS}, ("Parcel",), {"Parcel": 1}),
    "Parcel": Rule({"name": WORDS}, {"area": DOUBLE}, ("Center", "CoordGeom"), {"CoordGeom": 1}),
    "PlanFeatures": Rule({}, {"name": WORDS}, ("PlanFeature",), {"PlanFeature": 1}),
    "PlanFeature": Rule({"name": WORDS}, {}, ("CoordGeom",), {"CoordGeom": 1}),
    "Surfaces": Rule({}, {"name": WORDS}, ("Surface",), {"Surface": 1}),
    "Surface": Rule({"name": WORDS}, {"state": STATE, "desc": WORDS}, ("SourceData", "Definition"), {"Definition": 1}),
    "Definition": Rule({"surfType": one_of("TIN", "grid")}, {}, ("Pnts", "Faces"), {"Pnts": 1, "Faces": 1}),
    "Pnts": Rule(order=("P",), least={"P": 3}),
    "P": Rule({"id": re.compile(r"[1-9]\d*")}, text=re.compile(rf"{NUMBER}( {NUMBER}){{2}}")),
    "Faces": Rule(order=("F",), least={"F": 1}),
    "F": Rule({}, {"i": one_of("1"), "n": WORDS}, text=re.compile(r"[1-9]\d*( [1-9]\d*){2}")),
}
UNIQUE = {"Alignments": "Alignment", "PlanFeatures": "PlanFeature", "Parcels": "Parcel", "Surfaces": "Surface"}


def breaches(root):
    """Every place where the tree leaves the rules, in words."""
    found = []
    for node in root.iter():
        tag = etree.QName(node)
        if tag.namespace != "http://www.landxml.org/schema/LandXML-1.2" or tag.localname not in RULES:
            found.append(f"{tag} is no element that is meant")
            continue
        rule, name = RULES[tag.localname], tag.localname
        found += [f"{name} lacks {key}" for key in rule.needs if key not in node.attrib]
        for key, value in node.attrib.items():
            pattern = {**rule.needs, **rule.may}.get(key)
            if pattern is None or not pattern.fullmatch(value):
                found.append(f"{name} {key}='{value}'")
        inside = [etree.QName(c).localname for c in node]
        places = [
            next((i for i, o in enumerate(rule.order) if c == o or (isinstance(o, set) and c in o)), None)
            for c in inside
        ]
        if None in places or places != sorted(places):
            found.append(f"{name} holds {sorted(set(inside))} out of order or out of place")
        found += [f"{name} has {inside.count(c)} {c}" for c, n in rule.least.items() if inside.count(c) < n]
        if rule.text is not None and not rule.text.fullmatch(node.text or ""):
            found.append(f"{name} reads '{node.text}'")
        if name in UNIQUE:
            names = [c.get("name") for c in node]
            found += [f"{name} has '{n}' twice" for n in set(names) if names.count(n) > 1]
    return found


def written(site, tmp_path):
    write_landxml(delivery(Engine(site)), tmp_path / "a.xml")
    return etree.parse(tmp_path / "a.xml").getroot()


def with_every_element():
    """The court with a street of straights, arcs, transitions and vertical curves."""
    bends = [
        Bend(easting=400, northing=0),
        Bend(easting=520, northing=10, radius=80, transition_in=20, transition_out=25),
        Bend(easting=600, northing=120, radius=60),
        Bend(easting=720, northing=120),
    ]
    vips = (Vip(chainage=0, level=20), Vip(chainage=150, level=23, curve_length=40), Vip(chainage=300, level=20))
    return edits.add_street(court_site(), "Winding & <Long> Way", bends, vips=vips)


def test_what_is_written_keeps_the_standards_rules(tmp_path):
    root = written(with_every_element(), tmp_path)
    assert breaches(root) == []
    there = {etree.QName(n).localname for n in root.iter()}
    assert there >= {
        "Line",
        "Curve",
        "Spiral",
        "PVI",
        "ParaCurve",
        "Parcel",
        "Surface",
        "F",
        "CrossSectPnt",
        "PntList2D",
    }


def test_the_demo_and_an_empty_site_keep_them_too(tmp_path, brickworks):
    assert breaches(written(brickworks, tmp_path)) == []
    assert breaches(written(new_site("Empty"), tmp_path)) == []


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda r: r.find(".//{*}Spiral").attrib.pop("length"), "Spiral lacks length"),
        (lambda r: r.find(".//{*}Alignment").set("staStart", "nan"), "Alignment staStart='nan'"),
        (lambda r: r.append(r[0]), "LandXML holds"),
        (lambda r: r.find(".//{*}P").set("id", "0"), "P id='0'"),
        (lambda r: setattr(r.find(".//{*}F"), "text", "1 2"), "F reads '1 2'"),
        (lambda r: r.find(".//{*}CrossSectPnt").set("offset", "1"), "CrossSectPnt offset='1'"),
        (lambda r: r.find(".//{*}Line").remove(r.find(".//{*}Line")[0]), "Line has 0 Start"),
    ],
)
def test_the_rules_find_what_leaves_them(tmp_path, spoil, words):
    root = written(with_every_element(), tmp_path)
    spoil(root)
    assert any(words in b for b in breaches(root))


def test_streets_without_levels_have_no_profile(tmp_path):
    site = edits.add_street(new_site("Flat"), "A", [Bend(easting=0, northing=0), Bend(easting=90, northing=0)])
    root = written(site, tmp_path)
    assert breaches(root) == []
    assert site.all(Street)
    assert root.find(".//{*}ProfAlign") is None
