"""Writing LandXML 1.2: the ground, the finished surface, alignments with their profiles and cross sections, lots as parcels, and kerbs that
are no street's own as plan features."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
from lxml import etree

from humble_loop import __version__
from humble_loop.formats.landxml.sections import DESIGN, GROUND, write_sections
from humble_loop.formats.safe_write import write_whole
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import ARC, STRAIGHT, Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.ground.surface import Surface
from humble_loop.whole.delivery import Across, Alignment, Delivery


def write_landxml(site: Delivery, path: Path) -> None:
    """Write the ground, the finished surface, every street's alignment with profile and cross sections, the lots as parcels, and the lips of
    returns, heads, knuckles and islands as plan features with levels.

    Elements, their order and their required attributes are those of the LandXML 1.2 schema.
    """
    site.expect(surface=True, sections=True)
    ground = site.aside(lambda: _surface(GROUND, "existing", site.ground))
    ns = "http://www.landxml.org/schema/LandXML-1.2"
    now = datetime.now()
    namespaces: Any = {None: ns}  # the default namespace
    root = etree.Element(
        "LandXML",
        nsmap=namespaces,
        version="1.2",
        date=now.strftime("%Y-%m-%d"),
        time=now.strftime("%H:%M:%S"),
        language="English",
        readOnly="false",
    )
    units = etree.SubElement(root, "Units")
    etree.SubElement(
        units,
        "Metric",
        linearUnit="meter",
        areaUnit="squareMeter",
        volumeUnit="cubicMeter",
        temperatureUnit="celsius",
        pressureUnit="HPA",
        angularUnit="decimal degrees",
        directionUnit="decimal degrees",
    )
    etree.SubElement(root, "Project", name=site.name)
    etree.SubElement(root, "Application", name="Humble Loop", version=__version__)
    if site.alignments:
        alignments = etree.SubElement(root, "Alignments", name=site.name)
        for alignment, across in zip(site.alignments, site.cross_sections, strict=True):
            _write_alignment(alignments, alignment, across)
    if site.parcels:
        parcels = etree.SubElement(root, "Parcels")
        for land in site.parcels:
            _write_parcel(parcels, land.name, land.outline, land.area)
    if site.kerbs:
        features = etree.SubElement(root, "PlanFeatures", name="Kerbs")
        for kerb in site.kerbs:
            _write_geometry(etree.SubElement(features, "PlanFeature", name=kerb.title), kerb.chain, kerb.levels)
    text = etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)
    finished = _surface(DESIGN, "proposed", site.finished)
    if made := ground() + finished:
        end = b"</LandXML>\n"
        text = b"".join([text.removesuffix(end), b"  <Surfaces>\n", made, b"  </Surfaces>\n", end])
    write_whole(path, [text])


def _ne(point: Any) -> str:
    return " ".join(repr(float(v)) for v in (point[1], point[0], *point[2:]))


def _surface(name: str, state: str, surface: Surface) -> bytes:
    """A surface; nothing where it is empty. ``state`` is the schema's word: what is there is 'existing', a design is 'proposed'.

    As text: there are more points and faces than all else, and as elements they take four times as long.
    """
    if surface.empty:
        return b""
    points = "".join(
        f'          <P id="{i}">{n!r} {e!r} {z!r}</P>\n' for i, (e, n, z) in enumerate(surface.points.tolist(), start=1)
    )
    faces = ("          <F>%d %d %d</F>\n" * len(surface.triangles)) % tuple((surface.triangles + 1).ravel().tolist())
    return (
        f'    <Surface name="{name}" state="{state}">\n      <Definition surfType="TIN">\n'
        f"        <Pnts>\n{points}        </Pnts>\n        <Faces>\n{faces}        </Faces>\n"
        "      </Definition>\n    </Surface>\n"
    ).encode()


def _write_alignment(parent: Any, alignment: Alignment, across: Across | None) -> None:
    chain, name = alignment.chain, alignment.name
    node = etree.SubElement(parent, "Alignment", name=name, length=repr(chain.total), staStart="0")
    _write_geometry(node, chain)
    _write_profile(node, name, alignment.profile)
    if across is not None:
        write_sections(node, name, across)


def _write_geometry(node: Any, chain: Chain, levels: Floats | None = None) -> None:
    """The elements of a chain, with the levels (n + 1,) of their ends where these are known."""
    geometry = etree.SubElement(node, "CoordGeom")
    ends = chain.points_at(chain.starts)
    begins = chain.xy
    if levels is not None:
        ends, begins = np.column_stack([ends, levels]), np.column_stack([begins, levels[:-1]])
    for j, e in enumerate(chain.elements):
        start, end = begins[j], ends[j + 1]
        rot = "ccw" if e.k0 + e.k1 > 0 else "cw"
        if e.kind == STRAIGHT:
            item = etree.SubElement(geometry, "Line", length=repr(e.length))
        elif e.kind == ARC:
            radius = 1.0 / e.k0
            normal = np.array([-np.sin(chain.heading[j]), np.cos(chain.heading[j])])
            item = etree.SubElement(
                geometry, "Curve", rot=rot, crvType="arc", radius=repr(abs(radius)), length=repr(e.length)
            )
            etree.SubElement(item, "Start").text = _ne(start)
            etree.SubElement(item, "Center").text = _ne(chain.xy[j] + radius * normal)
            etree.SubElement(item, "End").text = _ne(end)
            continue
        else:
            ends_ = ["INF" if k == 0 else repr(abs(1.0 / k)) for k in (e.k0, e.k1)]
            item = etree.SubElement(
                geometry,
                "Spiral",
                rot=rot,
                spiType="clothoid",
                length=repr(e.length),
                radiusStart=ends_[0],
                radiusEnd=ends_[1],
            )
        etree.SubElement(item, "Start").text = _ne(start)
        if e.kind not in (STRAIGHT, ARC):
            etree.SubElement(item, "PI").text = _ne(_spiral_pi(chain, j, end[:2]))
        etree.SubElement(item, "End").text = _ne(end)


def _write_profile(node: Any, name: str, p: Profile | None) -> None:
    if p is None or len(p.chainages) < 2:
        return
    profile = etree.SubElement(etree.SubElement(node, "Profile", name=name), "ProfAlign", name=f"{name} grade line")
    for s, z, c in zip(p.chainages, p.levels, p.curves):
        text = f"{float(s)!r} {float(z)!r}"
        if c > 0:
            etree.SubElement(profile, "ParaCurve", length=repr(float(c))).text = text
        else:
            etree.SubElement(profile, "PVI").text = text


def _spiral_pi(chain: Any, j: int, end: Floats) -> Floats:
    """Where a spiral's two end tangents meet."""
    h0 = float(chain.heading[j])
    h1 = h0 + 0.5 * float(chain.k0[j] + chain.k1[j]) * float(chain.length[j])
    u, v = np.array([np.cos(h0), np.sin(h0)]), np.array([np.cos(h1), np.sin(h1)])
    d = end - chain.xy[j]
    t = (d[0] * v[1] - d[1] * v[0]) / (u[0] * v[1] - u[1] * v[0])
    return np.asarray(chain.xy[j] + t * u)


def _write_parcel(parent: Any, name: str, outline: Floats, area: float) -> None:
    node = etree.SubElement(parent, "Parcel", name=name, area=repr(area))
    geometry = etree.SubElement(node, "CoordGeom")
    for a, b in zip(outline, np.roll(outline, -1, axis=0)):
        line = etree.SubElement(geometry, "Line")
        etree.SubElement(line, "Start").text = _ne(a)
        etree.SubElement(line, "End").text = _ne(b)
