"""The demo site: the old brickworks, invented, seeded and reproducible.

``python -m humble_loop.demo`` writes the survey files that ship in ``data/survey``: points and breaklines (CSV with
codes), the pit floor as an earlier surface (LandXML), boundaries and driveways (DXF). The demo site is built by
reading those files with the real readers and applying the real edits, and ships saved as an ordinary site file.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np

from humble_loop.data import path as data_path
from humble_loop.engine.query import Engine
from humble_loop.formats.bring_in import Options, bring_in
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.geometry.chain import Chain
from humble_loop.ground.build import build_surface
from humble_loop.kinds.fall_window.model import add_window
from humble_loop.kinds.fall_window.settling import settling, taken
from humble_loop.kinds.ground.model import Ground, add_ground
from humble_loop.kinds.island.show import about_head
from humble_loop.kinds.junction.model import TurnLane, set_corner, set_crossing_corner, set_junction
from humble_loop.kinds.kerb_line.beginning import own_levels
from humble_loop.kinds.kerb_line.levels import KerbLevels
from humble_loop.kinds.kerb_line.model import KerbLine
from humble_loop.kinds.knuckle.model import add_knuckle
from humble_loop.kinds.lot.model import LotRow, add_lot_row, set_lot_row, set_pad
from humble_loop.kinds.roundabout.model import add_roundabout
from humble_loop.kinds.street.edits import add_street, set_street, set_vip, set_vips
from humble_loop.kinds.street.model import Bend, SectionChange, Street, Vip, bend_input
from humble_loop.kinds.street.overlay import add_full_depth
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.street.section_edits import set_toe_drain
from humble_loop.kinds.street.widening import add_widening
from humble_loop.kinds.survey_line.model import SurveyLine, add_survey_lines
from humble_loop.kinds.tie.beginning import tied
from humble_loop.kinds.tie.model import Source
from humble_loop.kinds.turning_head.model import set_head, shape_head
from humble_loop.lines.describe import Actions
from humble_loop.site.libraries import new_site
from humble_loop.site.library import KerbPart, Layer, Overlay, SectionSide, Strip, TypicalSection
from humble_loop.site.model import SIDES, Site

SEED = 1907
WEST, SOUTH, EAST, NORTH = 4000.0, 8000.0, 4460.0, 8340.0
SITE = "brickworks.hloop"
POINTS, PIT, LINES = "brickworks_points.csv", "pit_floor.xml", "brickworks_lines.dxf"
_SERVICES = (
    (
        "Sewer",
        "SEWER",
        2.4,
        1.0,
        ((4136.0, 8236.0), (4206.0, 8226.0), (4222.0, 8098.0), (4296.0, 8094.0), (4338.0, 8030.0)),
    ),
    (
        "Stormwater",
        "STORM",
        1.9,
        0.6,
        ((4074.0, 8052.0), (4168.0, 8050.0), (4262.0, 8049.0), (4360.0, 8048.0), (4392.0, 8026.0)),
    ),
)
UPGRADE = "claypit-road-upgrade"
_FIRST_STAGE = 214.3  # metres of Ember Loop
CLAYPIT = (BendInput(4008.0, 8311.0), BendInput(4230.0, 8305.0, 400.0), BendInput(4452.0, 8290.0))
LIP, KERB, PATH_FRONT, PATH_BACK, ROAD_BOUNDARY = 3.4, 3.85, 5.4, 6.8, 8.2


def natural(e: Floats, n: Floats) -> Floats:
    """The ground before the road was built: a fall of about 1 in 20 to the south-east, and the filled pit's hollow."""
    x, y = e - WEST, n - SOUTH
    z = 47.0 - 0.0225 * x - 0.0195 * (340.0 - y) + 0.35 * np.sin(x / 55.0) * np.cos(y / 70.0)
    lip = 1.0 / (1.0 + np.exp(-(x - 138.0) / 2.2))
    fade = np.exp(-np.maximum(x - 138.0, 0.0) / 65.0)
    return np.asarray(z - 3.0 * lip * fade * np.exp(-(((y - 95.0) / 46.0) ** 4)))


def _road() -> Chain:
    return chain_from_bends(CLAYPIT)[0]


def _road_level(chainage: Floats, offset: Floats) -> Floats:
    """Claypit Road as built: crown, lips, kerbs, a path on the north side."""
    p = _road().points_at(chainage)
    crown = 0.5 * (natural(p[:, 0], p[:, 1]) + natural(p[:, 0], p[:, 1] - 2.0)) + 0.05
    a = np.abs(offset)
    z = crown - 0.03 * np.minimum(a, LIP)
    z = z + np.where(a > LIP, 0.11 * np.clip((a - LIP) / (KERB - LIP), 0, 1), 0.0)
    return np.asarray(z + np.where(a > KERB, 0.03 * (a - KERB), 0.0))


def ground_level(e: Floats, n: Floats) -> Floats:
    """Level of the brickworks' ground at any place, road included."""
    z = natural(e, n)
    feet = _road().feet(np.column_stack([e, n]))
    a = np.abs(feet.offsets)
    near = a < 16.0
    share = np.clip((a[near] - ROAD_BOUNDARY) / (16.0 - ROAD_BOUNDARY), 0.0, 1.0)
    z[near] = (1 - share) * _road_level(feet.chainages[near], feet.offsets[near]) + share * z[near]
    return z


def make_survey(folder: Path) -> list[Path]:
    """Write the survey files into ``folder``; the same bytes every time."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(SEED)
    files = [folder / POINTS, folder / PIT, folder / LINES]
    _write_points(files[0], rng)
    _write_pit(files[1])
    _write_lines(files[2])
    return files


def _write_points(file: Path, rng: np.random.Generator) -> None:
    e, n = np.meshgrid(np.arange(WEST, EAST + 1, 7.0), np.arange(SOUTH, NORTH + 1, 7.0))
    spots = np.column_stack([e.ravel(), n.ravel()])
    spots += rng.uniform(-2.2, 2.2, spots.shape)
    spots = spots[np.abs(_road().feet(spots).offsets) > ROAD_BOUNDARY + 1.0]
    rows = [
        (p, "SPOT")
        for p in np.column_stack([spots, ground_level(spots[:, 0], spots[:, 1]) + rng.normal(0, 0.012, len(spots))])
    ]
    s = np.arange(0.0, _road().total + 0.1, 10.0)
    for code, offset in (
        ("CROWN1", 0.0),
        ("LIP1", LIP),
        ("LIP2", -LIP),
        ("KERB1", KERB),
        ("KERB2", -KERB),
        ("PATH1", PATH_FRONT),
        ("PATH2", PATH_BACK),
        ("VERGE1", ROAD_BOUNDARY),
        ("VERGE2", -ROAD_BOUNDARY),
    ):
        z = _road_level(s, np.full_like(s, offset)) + rng.normal(0, 0.003, len(s))
        rows += [(p, code) for p in np.column_stack([_road().points_at(s, offset), z])]
    for code, x in (("PITTOP1", 132.5), ("PITTOE1", 145.0)):
        y = np.arange(52.0, 140.0, 6.0)
        line = np.column_stack([np.full_like(y, WEST + x) + 1.5 * np.sin(y / 14.0), SOUTH + y])
        rows += [(p, code) for p in np.column_stack([line, ground_level(line[:, 0], line[:, 1])])]
    text = ["number,easting,northing,level,code"]
    text += [f"{i},{p[0]:.3f},{p[1]:.3f},{p[2]:.3f},{code}" for i, (p, code) in enumerate(rows, start=1001)]
    file.write_text("\n".join(text) + "\n", encoding="utf-8")


def _write_pit(file: Path) -> None:
    e, n = np.meshgrid(np.arange(4136.0, 4241.0, 15.0), np.arange(8045.0, 8151.0, 15.0))
    points = np.column_stack([e.ravel(), n.ravel(), natural(e.ravel(), n.ravel()) - 4.0])
    surface, _ = build_surface(points)
    out = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2">',
        '<Units><Metric linearUnit="meter" areaUnit="squareMeter" volumeUnit="cubicMeter"/></Units>',
        '<Surfaces><Surface name="Pit floor before filling"><Definition surfType="TIN"><Pnts>',
    ]
    out += [f'<P id="{i}">{p[1]:.3f} {p[0]:.3f} {p[2]:.3f}</P>' for i, p in enumerate(surface.points, start=1)]
    out += [
        "</Pnts><Faces>",
        *(f"<F>{a} {b} {c}</F>" for a, b, c in surface.triangles + 1),
        "</Faces></Definition></Surface></Surfaces></LandXML>",
    ]
    file.write_text("\n".join(out) + "\n", encoding="utf-8")


def _write_lines(file: Path) -> None:
    road = _road()
    s = np.linspace(0.0, road.total, 12)
    lines: list[tuple[str, Floats]] = [
        ("ROAD BOUNDARY", road.points_at(s, ROAD_BOUNDARY)),
        ("ROAD BOUNDARY", road.points_at(s, -ROAD_BOUNDARY)),
    ]
    for at in (38.0, 96.0, 158.0, 232.0, 305.0, 381.0):
        mouth = [
            road.points_at([at + along], out)[0]
            for along, out in ((-2.2, KERB), (-1.6, 15.0), (1.6, 15.0), (2.2, KERB))
        ]
        lines.append(("DRIVEWAY", np.array(mouth)))
    ends = road.points_at([road.total, 0.0], -ROAD_BOUNDARY)
    lines.append(("SITE BOUNDARY", np.array([(4012.0, 8018.0), (4446.0, 8010.0), *ends, (4012.0, 8018.0)])))
    lines.append(("FENCE", np.array([(4014.0, 8170.0), (4036.0, 8120.0), (4028.0, 8022.0)])))
    lines.append(("CREEK", np.array([(4330.0, 8004.0), (4380.0, 8030.0), (4420.0, 8026.0), (4458.0, 8052.0)])))
    # Plain entities of the oldest DXF, written here because a library stamps dates and ids into every drawing.
    out = ["0", "SECTION", "2", "ENTITIES"]
    for layer, points in lines:
        out += ["0", "POLYLINE", "8", layer, "66", "1"]
        for e, n in points:
            out += ["0", "VERTEX", "8", layer, "10", f"{e:.3f}", "20", f"{n:.3f}", "30", "0.0"]
        out += ["0", "SEQEND", "8", layer]
    file.write_text("\n".join([*out, "0", "ENDSEC", "0", "EOF"]) + "\n", encoding="ascii")


def survey_files() -> list[Path]:
    """The shipped survey files."""
    return [data_path("survey", name) for name in (PIT, POINTS, LINES)]


def demo_site() -> Site:
    """The brickworks as they ship: an ordinary site file, saved from ``build_demo``."""
    return load_site(data_path("survey", SITE))


def build_demo() -> Site:
    """The whole of the brickworks, from the survey files."""
    return _turning_right(_upgrade(_second_stage(first_stage())))


@cache
def first_stage() -> Site:
    """The brickworks with Claypit Road, Ember Loop's west leg and Kiln Court, and their lots, from the survey files."""
    site, _ = bring_in(new_site("The old brickworks"), survey_files(), Options(longest_edge=40.0))
    return _with_main(_estate(site, 0, 0.0))


def _second_stage(site: Site) -> Site:
    """Ember Loop closed, and the streets inside it, which join and cross it and one another."""
    (ember,) = (s for s in site.all(Street) if s.name == "Ember Loop")
    loop = _bends(
        *((b.easting, b.northing, b.radius) for b in ember.bends[:3]),
        (4056.0, 8061.0, 16.0),
        (4372.0, 8058.0, 26.0),
        (4376.0, 8180.0, 300.0),
        _nearest(_road(), 4384.0, 8293.0),
    )
    site = set_street(site, ember.id, bends=tuple(loop))
    for row in site.all(LotRow):
        if row.street == ember.id and row.end is None:
            site = set_lot_row(site, row.id, end=_FIRST_STAGE)
    line = chain_from_bends([bend_input(b) for b in loop])[0]
    low = [(250.0, 40.3, 20.0), (305.0, 38.9, 30.0), (345.0, 37.0, 30.0), (384.0, 36.343, 10.0), (556.0, 33.6, 30.0)]
    back = [(650.0, 34.9, 0.0), (745.0, 36.5, 12.0)]
    vips = [*ember.vips, *(Vip(chainage=s, level=z, curve_length=c) for s, z, c in (*low, *back))]
    site = set_vips(site, ember.id, vips)
    for name, street_class, section, rows in (
        (
            "Firebrick Street",
            "collector",
            "collector-parking",
            (_nearest(_road(), 4238.0, 8305.0), (4242.0, 8190.0, 180.0), (4232.0, 8022.0)),
        ),
        (
            "Saggar Street",
            "local",
            "local-street",
            ((4150.0, 8254.0), (4250.0, 8258.0, 220.0), _nearest(line, 4378.0, 8244.0)),
        ),
        (
            "Hopper Lane",
            "access",
            "service-lane",
            (_nearest(line, 4375.0, 8148.0), (4330.0, 8150.0, 60.0), (4292.0, 8140.0)),
        ),
        (
            "Flue Rise",
            "access",
            "access-one-way-fall",
            (_nearest(line, 4180.0, 8060.0), (4134.0, 8092.0, 28.0), (4131.0, 8128.0)),
        ),
    ):
        site = add_street(site, name, _bends(*rows), street_class=street_class, section=section)
    climb = [(24.0, 37.05, 14.0), (70.0, 40.75, 14.0), (91.0, 41.3, 0.0)]
    site = set_vips(site, "flue-rise", [Vip(chainage=s, level=z, curve_length=c) for s, z, c in climb])
    parking = (("local-parking-left", 464.0), ("local-street", 530.0))
    site = set_street(site, ember.id, changes=tuple(SectionChange(chainage=s, section=n) for n, s in parking))
    site = set_street(
        site, "saggar-street", changes=(SectionChange(chainage=116.0, section="local-one-path", taper=8.0),)
    )
    site = add_knuckle(site, ember.id, 249.6, radius=12.0, out=-3.0, inner=16.0)
    site = shape_head(site, "hopper-lane", "end", "hammerhead")
    site = _with_island(site, "kiln-court")
    site = set_corner(site, "hopper-lane", "start", "right", pit=True)
    site = set_corner(site, "saggar-street", "end", "right", pit=True)
    site = set_corner(site, "flue-rise", "start", "left", pit=True)
    site = set_crossing_corner(site, "firebrick-street", "saggar-street", 0, ("right", "left"), pit=True)
    site = add_roundabout(site, "firebrick-street", 245.4, "ember-loop", preset="compact", pits=(286.4, 348.3))
    site = add_survey_lines(site, [_service(*rows) for rows in _SERVICES])
    for street, place, number, more in (
        ("ember-loop", "right", 31, {"start": 264.0, "end": 408.0, "frontage": 17.0, "depth": 27.0}),
        ("ember-loop", "right", 41, {"start": 442.0, "end": 546.0, "frontage": 17.0, "depth": 27.0}),
        ("ember-loop", "left", 51, {"start": 442.0, "end": 540.0, "frontage": 17.0}),
        ("ember-loop", "right", 61, {"start": 586.0, "end": 768.0, "frontage": 18.0}),
        ("saggar-street", "left", 81, {"start": 112.0, "end": 208.0, "frontage": 18.0, "depth": 26.0}),
        ("saggar-street", "right", 91, {"start": 112.0, "end": 208.0, "frontage": 18.0}),
    ):
        site = add_lot_row(site, street, place, first_number=number, **more)
    return site


def _with_island(site: Site, court: str) -> Site:
    """A teardrop in the bulb of a court, as large as leaves its vehicle the way round."""
    (offered,) = (row for row in about_head(Engine(site), f"{court}:end") if isinstance(row, Actions))
    return dict(offered.buttons)["Teardrop island in it"](site)


def _upgrade(site: Site) -> Site:
    """Claypit Road rebuilt: an overlay of 40 mm at least on its old pavement, and new kerbs.

    The north kerb has levels of its own, as near the old one as the crown leaves it; the path behind it lies 1.8 m wide at 2 % inwards from
    the boundary as it was surveyed. The south boundary is held to what is there as well. Both ends run out to the old surface.
    """
    street = "claypit-road"
    side = SectionSide(
        parts=(
            Strip(to="lip", width=LIP, grade=-0.03),
            KerbPart(kerb="barrier"),
            Strip(to="path front", width=ROAD_BOUNDARY - KERB - 1.8, grade=0.03, piece="verge"),
            Strip(to="boundary", width=1.8, grade=0.02, piece="path"),
        )
    )
    layers = tuple(Layer(of=of, thickness=t) for of, t in (("asphalt", 0.04), ("base", 0.15), ("subbase", 0.2)))
    name = "Claypit Road, overlay and new kerbs"
    section = TypicalSection(
        id=UPGRADE, name=name, left=side, right=side, apart=True, layers=layers, overlay=Overlay(trim=0.04)
    )
    site = set_street(site.put(section), street, kind="new", section=UPGRADE)
    chain, ground = _road(), site.all(Ground)[-1].surface
    total = chain.total
    # From the old surface, over 12 m, to 60 mm above it; then every 40 m as low as the overlay leaves it.
    s = np.array([0.0, 12.0, *np.arange(50.0, 420.0, 40.0), total - 12.0, total])
    z = ground.levels(chain.points_at(s)) + np.array([0.0, *[0.06] * (len(s) - 2), 0.0])
    curves = [0.0, 8.0, *[20.0] * (len(s) - 4), 8.0, 0.0]
    site = set_vips(
        site,
        street,
        [Vip(chainage=float(a), level=round(float(b), 3), curve_length=c) for a, b, c in zip(s, z, curves)],
    )
    for index in (0, len(s) - 1):
        site = set_vip(site, street, index, locked=True)
    for begin, finish in ((0.0, 12.0), (total - 12.0, total)):
        site = add_full_depth(site, street, begin, finish)
    site = add_window(site, street, None, "crown", Source(), 14.0, total - 14.0, measure="height", least=0.04)
    q = Engine(site)
    crown = StreetLine(street)
    site = taken(q, settling(q, (crown,), "ground", ""))(site)
    boundaries = {line.name: line.id for line in site.all(SurveyLine)}
    for at, code in zip(SIDES, ("VERGE1", "VERGE2")):
        source = Source(what="line", of=boundaries[code])
        site = tied(Engine(site), street, at, "boundary", source)(site)
    kerb = own_levels(Engine(site), street, "left", "lip")
    assert kerb is not None
    site = kerb(site)
    line = KerbLevels(site.all(KerbLine)[-1].id, street)
    q = Engine(site)
    return taken(q, settling(q, (line,), "line", boundaries["LIP1"]))(site)


def _service(name: str, code: str, depth: float, cover: float, rows: tuple[tuple[float, float], ...]) -> SurveyLine:
    """A pipe ``depth`` metres under the ground at its pits, straight between them."""
    e, n = np.array(rows).T
    levels = np.round(ground_level(e, n) - depth, 2)
    return SurveyLine(
        name=name, code=code, vertices=tuple(zip(e.tolist(), n.tolist(), levels.tolist())), least_cover=cover
    )


def _nearest(line: Chain, e: float, n: float) -> tuple[float, float]:
    """The nearest place on a line."""
    place = line.points_at(line.feet([e, n]).chainages)[0]
    return float(place[0]), float(place[1])


def _bends(*rows: tuple[float, ...]) -> list[Bend]:
    return [Bend(**dict(zip(Bend.model_fields, r))) for r in rows]


def _turning_right(site: Site) -> Site:
    """A lane on Claypit Road for those who turn right into Firebrick Street; the verges give the room, and its pavement is new there."""
    street, at = "claypit-road", 230.0
    lane = TurnLane(leg="through back", turn="right", storage=15.0, deceleration=20.0, taper=20.0, width=2.8)
    site = set_junction(site, "firebrick-street", "start", lanes=(lane,))
    for side in SIDES:
        beside = ROAD_BOUNDARY - 1.8  # the path stays where it is
        kept = {"of_point": "crown", "beside": beside}
        site = add_widening(site, street, side, at - 58.0, at + 42.0, street, "path front", **kept)
    return add_full_depth(site, street, at - 57.0, at + 40.0)


def _with_main(site: Site) -> Site:
    """An old water main under the south of the estate, 1.3 m below the ground."""
    e = np.linspace(4022.0, 4124.0, 6)
    n = np.linspace(8128.0, 8140.0, 6)
    levels = np.round(ground_level(e, n) - 1.3, 2)
    vertices = tuple((float(a), float(b), float(z)) for a, b, z in zip(e, n.round(2), levels))
    return add_survey_lines(
        site, [SurveyLine(name="Old water main", code="WATER", vertices=vertices, least_cover=0.75)]
    )


def repeated_site(times: int) -> Site:
    """The first stage ``times`` over, side by side, for benchmarks."""
    one = first_stage()
    ground = one.all(Ground)[-1].surface
    width = EAST - WEST
    points = np.concatenate([ground.points + [k * width, 0.0, 0.0] for k in range(times)])
    surface, _ = build_surface(points)
    site = add_ground(new_site(f"Brickworks × {times}"), Ground(name="Ground", surface=surface))
    for k in range(times):
        lines = [
            line.model_copy(
                update={"id": f"{line.id}-{k}", "vertices": tuple((e + k * width, n, z) for e, n, z in line.vertices)}
            )
            for line in one.all(SurveyLine)
        ]
        site = add_survey_lines(site, lines)
        site = _estate(site, k, k * width)
    return site


def _estate(site: Site, copy: int, east: float) -> Site:
    suffix = f" {copy + 1}" if copy else ""
    lip = {i.name: i.id for i in site.all(SurveyLine)[-_lines_per_copy(site) :]}

    def bends(*rows: tuple[float, ...]) -> list[Bend]:
        return [Bend(**dict(zip(Bend.model_fields, (r[0] + east, *r[1:])))) for r in rows]

    claypit, ember, kiln = (f"{n}{suffix}" for n in ("Claypit Road", "Ember Loop", "Kiln Court"))
    site = add_street(
        site,
        claypit,
        bends(*CLAYPIT),
        kind="existing",
        street_class="collector",
        left_lip=lip["LIP1"],
        right_lip=lip["LIP2"],
    )
    node = _road().points_at([_road().feet([4094.0, 8306.0]).chainages[0]])[0]
    site = add_street(
        site,
        ember,
        bends((float(node[0]), float(node[1])), (4090.0, 8238.0, 90.0), (4062.0, 8178.0, 80.0), (4058.0, 8100.0)),
    )
    ember_id = site.all(Street)[-1].id
    line = chain_from_bends([BendInput(b.easting - east, b.northing, b.radius) for b in site.all(Street)[-1].bends])[0]
    start = line.points_at([112.0])[0]
    site = add_street(
        site,
        kiln,
        bends((float(start[0]), float(start[1])), (4120.0, 8178.5, 60.0), (4182.0, 8188.0)),
        street_class="access",
        section="access-place",
    )
    kiln_id = site.all(Street)[-1].id
    site = set_toe_drain(site, "access-place", "left", "v-drain")
    site = set_head(site, kiln_id, radius=9.5, return_radius=15.0, fall=0.03)
    for street, place, number, more in (
        (ember_id, "left", 1, {"start": 14.0, "end": 92.0, "frontage": 18.0}),
        (ember_id, "left", 11, {"start": 136.0, "frontage": 18.0}),
        (ember_id, "right", 1, {"start": 14.0, "frontage": 19.0}),
        (kiln_id, "left", 1, {"start": 44.0, "frontage": 17.0}),
        (kiln_id, "right", 1, {"start": 44.0, "frontage": 17.0}),
        (kiln_id, "head", 1, {"frontage": 13.0}),
    ):
        site = add_lot_row(site, street, place, first_number=number, **more)
    return _blemishes(site, ember_id)


def _lines_per_copy(site: Site) -> int:
    lips = [i for i, line in enumerate(site.all(SurveyLine)) if line.name == "CROWN1"]
    return len(site.all(SurveyLine)) - lips[-1]


def _blemishes(site: Site, ember_id: str) -> Site:
    """A few mistakes on purpose, each of its own kind, so that the list of findings has something to show."""
    site = set_vips(
        site,
        ember_id,
        [
            Vip(chainage=14.0, grade=-0.02),
            Vip(chainage=92.0, grade=-0.018, curve_length=24.0),
            Vip(chainage=160.0, grade=-0.022, curve_length=4.0),
            Vip(chainage=214.4, grade=-0.004),
        ],
    )
    row = next(r for r in site.all(LotRow) if r.street == ember_id and r.place == "right")
    return set_pad(site, row.id, 4, 40.2)


if __name__ == "__main__":
    for made in make_survey(data_path("survey")):
        print(made)
    shipped = data_path("survey", SITE)
    shipped.unlink(missing_ok=True)
    save_site(build_demo(), shipped)
    print(shipped)
