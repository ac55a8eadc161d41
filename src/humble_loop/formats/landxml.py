"""LandXML 1.2: surfaces, alignments with profiles, points, breaklines and parcels in; surfaces, alignments, parcels out."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
from lxml import etree

from humble_loop import __version__
from humble_loop.formats.bundle import METRES, Bundle, StreetIn
from humble_loop.formats.errors import FormatError
from humble_loop.formats.points_csv import check_coordinates
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bends import tangent_lengths
from humble_loop.geometry.chain import ARC, STRAIGHT
from humble_loop.ground.surface import Surface
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site.model import slug
from humble_loop.whole.delivery import Alignment, Delivery

_UNITS = {
    "meter": "m",
    "metre": "m",
    "foot": "ft",
    "ussurveyfoot": "us-ft",
    "millimeter": "mm",
    "centimeter": "cm",
    "kilometer": "km",
    "inch": "in",
}

FINISHED = "Finished surface"


def read_landxml(path: Path, *, units: str = "m") -> Bundle:
    """Read surfaces, alignments (with their design profile), points, breaklines and parcels. Raises FormatError."""
    root = _root(path)
    scale = _scale(path, root, units)
    bundle = Bundle()
    for surface in _every(root, "Surface"):
        _surface(path, surface, scale, bundle)
    for alignment in _every(root, "Alignment"):
        bundle.streets.append(_alignment(path, alignment, scale))
    points = [
        _numbers(path, p.text, 3)
        for group in _every(root, "CgPoints")
        for p in _every(group, "CgPoint")
        if p.text and len(p.text.split()) >= 3
    ]
    if points:
        bundle.points = np.array(points)[:, [1, 0, 2]] * scale
        check_coordinates(path, bundle.points)
    for parcel in _every(root, "Parcel"):
        ring = _ring(path, parcel, scale)
        if len(ring) >= 2:
            name = parcel.get("name") or "parcel"
            bundle.lines.append(
                SurveyLine(
                    id=slug(f"{path.stem} {name}"),
                    name=name,
                    code="parcel",
                    source=path.name,
                    vertices=tuple((float(e), float(n), None) for e, n in ring),
                )
            )
    if bundle.empty:
        raise FormatError(path, "it holds no surface, alignment, point or parcel that can be used")
    return bundle


def _root(path: Path) -> Any:
    try:
        data = path.read_bytes()
    except OSError as error:
        raise FormatError(path, f"it cannot be read ({error.strerror or error})") from None
    if not data.strip():
        raise FormatError(path, "the file is empty; check that it was written completely")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True, remove_comments=True)
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        raise FormatError(path, f"it is not complete XML ({error.msg}); export it again") from None
    if etree.QName(root).localname != "LandXML":
        raise FormatError(path, f"its root is '{etree.QName(root).localname}', not LandXML; export it as LandXML 1.2")
    return root


def _every(node: Any, name: str) -> Iterator[Any]:
    return (n for n in node.iter() if isinstance(n.tag, str) and etree.QName(n).localname == name)


def _child(node: Any, name: str) -> Any:
    return next((n for n in node if isinstance(n.tag, str) and etree.QName(n).localname == name), None)


def _scale(path: Path, root: Any, units: str) -> float:
    for found in _every(root, "Units"):
        for system in found:
            word = (system.get("linearUnit") or "meter").lower()
            if word not in _UNITS:
                raise FormatError(path, f"its unit of length '{word}' is not known; export it in metres or feet")
            return METRES[_UNITS[word]]
    return METRES[units]


def _numbers(path: Path, text: str | None, count: int) -> list[float]:
    try:
        values = [float(v) for v in (text or "").split()]
    except ValueError:
        raise FormatError(path, f"'{(text or '').strip()[:40]}' should be {count} numbers; export it again") from None
    if len(values) < count or not np.all(np.isfinite(values)):
        raise FormatError(path, f"'{(text or '').strip()[:40]}' should be {count} numbers; export it again")
    return values


def _surface(path: Path, node: Any, scale: float, bundle: Bundle) -> None:
    name = node.get("name") or path.stem
    ids, texts = [], []
    for pnts in _every(node, "Pnts"):
        for p in pnts:
            ids.append(p.get("id"))
            texts.append(p.text or "")
    if not ids:
        for breakline in _every(node, "PntList3D"):
            values = np.array(_numbers(path, breakline.text, 3)).reshape(-1, 3)[:, [1, 0, 2]] * scale
            bundle.breaklines.append(values)
        return
    try:
        xyz = np.array(" ".join(texts).split(), dtype=np.float64).reshape(len(ids), -1)[:, :3]
    except ValueError:
        raise FormatError(path, f"surface '{name}' has a point that is not three numbers; export it again") from None
    if not np.all(np.isfinite(xyz)):
        raise FormatError(path, f"surface '{name}' has a point that is not a number; export it again")
    if xyz.shape[1] < 3:
        raise FormatError(path, f"surface '{name}' has points without levels; export it again as a TIN")
    points = xyz[:, [1, 0, 2]] * scale
    check_coordinates(path, points)
    place = {i: k for k, i in enumerate(ids)}
    faces = []
    for faces_node in _every(node, "Faces"):
        for f in faces_node:
            if f.get("i") == "1":
                continue  # marked invisible
            corner = (f.text or "").split()[:3]
            try:
                faces.append([place[c] for c in corner])
            except KeyError as error:
                raise FormatError(
                    path, f"surface '{name}' has a face with point {error}, which is not there; export it again"
                ) from None
    faces = [f for f in faces if len(f) == 3]
    if not faces:
        bundle.points = np.concatenate([bundle.points, points])
        return
    bundle.surfaces.append((name, Surface(points, np.array(faces))))


def _point(path: Path, node: Any, name: str, scale: float) -> Floats:
    found = _child(node, name)
    if found is None:
        raise FormatError(path, f"a {etree.QName(node).localname} has no {name} point; export it again")
    n, e = _numbers(path, found.text, 2)[:2]
    return np.array([e, n]) * scale


def _radius(path: Path, node: Any, key: str, scale: float) -> float:
    word = node.get(key) or "INF"
    if word.upper().startswith("INF"):
        return float("inf")
    return abs(_numbers(path, word, 1)[0]) * scale


def _alignment(path: Path, node: Any, scale: float) -> StreetIn:
    name = node.get("name") or path.stem
    geometry = _child(node, "CoordGeom")
    if geometry is None or not len(geometry):
        raise FormatError(path, f"alignment '{name}' has no geometry; export it again")
    bends = _bends(path, name, list(geometry), scale)
    begin = float(node.get("staStart") or 0.0) * scale
    vips: list[Vip] = []
    for profile in _every(node, "ProfAlign"):
        vips = _vips(path, name, profile, scale, begin)
        break
    return StreetIn(name, bends, vips)


def _bends(path: Path, name: str, elements: list[Any], scale: float) -> list[Bend]:
    """Bends from lines, curves and spirals: a curve with the spirals beside it is one bend."""
    kinds = [etree.QName(e).localname for e in elements]
    unknown = next((k for k in kinds if k not in ("Line", "Curve", "Spiral", "IrregularLine")), None)
    if unknown:
        raise FormatError(
            path, f"alignment '{name}' has a {unknown}, which cannot be read; use lines, curves and spirals"
        )
    vertices: list[Bend] = []

    def corner(p: Floats, radius: float = 0.0, l1: float = 0.0, l2: float = 0.0) -> None:
        if vertices and radius == 0.0 and np.hypot(p[0] - vertices[-1].easting, p[1] - vertices[-1].northing) < 1e-6:
            return
        vertices.append(
            Bend(easting=float(p[0]), northing=float(p[1]), radius=radius, transition_in=l1, transition_out=l2)
        )

    corner(_point(path, elements[0], "Start", scale))
    i, heading = 0, None
    while i < len(elements):
        e = elements[i]
        if kinds[i] == "Line":
            a, b = _point(path, e, "Start", scale), _point(path, e, "End", scale)
            heading = float(np.arctan2(b[1] - a[1], b[0] - a[0]))
            if i + 1 == len(elements) or kinds[i + 1] == "Line":
                corner(b)
            i += 1
            continue
        group = [i]
        if kinds[i] == "Spiral":
            if i + 1 < len(elements) and kinds[i + 1] == "Curve":
                group.append(i + 1)
            elif i + 1 >= len(elements) or kinds[i + 1] != "Spiral":
                raise FormatError(
                    path, f"alignment '{name}' has a spiral without a curve beside it, which cannot be read"
                )
        last = group[-1]
        if (
            kinds[last] == "Curve"
            and last + 1 < len(elements)
            and kinds[last + 1] == "Spiral"
            and np.isinf(_radius(path, elements[last + 1], "radiusEnd", scale))
        ) or (kinds[last] == "Spiral" and last + 1 < len(elements) and kinds[last + 1] == "Spiral"):
            group.append(last + 1)
        heading = _group(path, name, [elements[k] for k in group], scale, heading, corner)
        i = group[-1] + 1
        if i == len(elements):
            corner(_point(path, elements[group[-1]], "End", scale))
    return vertices


def _group(path: Path, name: str, group: list[Any], scale: float, heading: float | None, corner: Any) -> float:
    """Add the bend of one curve (and its spirals) and return the heading after it."""
    curve = next((e for e in group if etree.QName(e).localname == "Curve"), None)
    spirals = [e for e in group if etree.QName(e).localname == "Spiral"]
    start = _point(path, group[0], "Start", scale)
    turn = -1.0 if (group[0].get("rot") or "ccw").lower() == "cw" else 1.0
    before = spirals[0] if spirals and spirals[0] is group[0] else None
    after = spirals[-1] if spirals and spirals[-1] is group[-1] and spirals[-1] is not before else None
    l1 = float(before.get("length")) * scale if before is not None else 0.0
    l2 = float(after.get("length")) * scale if after is not None else 0.0
    sweep = 0.0
    if curve is not None:
        centre = _point(path, curve, "Center", scale)
        a, b = _point(path, curve, "Start", scale) - centre, _point(path, curve, "End", scale) - centre
        radius = float(np.hypot(*a))
        sweep = float(np.mod(turn * (np.arctan2(b[1], b[0]) - np.arctan2(a[1], a[0])), 2 * np.pi))
        tangent = float(np.arctan2(a[1], a[0]) + turn * np.pi / 2) - turn * l1 / (2 * radius)
    else:
        radius = _radius(path, group[0], "radiusEnd", scale)
        tangent = heading if heading is not None else 0.0
    if not np.isfinite(radius) or radius <= 0:
        raise FormatError(path, f"alignment '{name}' has a curve without a radius; export it again")
    # A turn of more than a third of a circle is taken in equal parts, whose tangents meet nearby.
    parts_ = max(1, int(np.ceil(sweep / (2 * np.pi / 3) - 1e-9))) if not spirals else 1
    total = sweep + (l1 + l2) / (2 * radius)
    if spirals and total >= np.pi:
        raise FormatError(path, f"alignment '{name}' has a bend with spirals that turns by more than a half circle")
    at = start
    for _ in range(parts_):
        share = total / parts_
        t_in, t_out = tangent_lengths(radius, l1, l2, share)
        point = at + t_in * np.array([np.cos(tangent), np.sin(tangent)])
        corner(point, radius, l1, l2)
        tangent += turn * share
        at = point + t_out * np.array([np.cos(tangent), np.sin(tangent)])
    return tangent


def _vips(path: Path, name: str, profile: Any, scale: float, begin: float) -> list[Vip]:
    found: list[Vip] = []
    for p in profile:
        kind = etree.QName(p).localname
        if kind not in ("PVI", "ParaCurve", "UnsymParaCurve", "CircCurve"):
            continue
        if kind in ("UnsymParaCurve", "CircCurve"):
            raise FormatError(
                path, f"the profile of '{name}' has a {kind}, which cannot be read; use symmetric parabolas"
            )
        s, z = (v * scale for v in _numbers(path, p.text, 2)[:2])
        length = float(p.get("length") or 0.0) * scale if kind == "ParaCurve" else 0.0
        found.append(Vip(chainage=s - begin, level=z, curve_length=length))
    for a, b in zip(found[:-1], found[1:]):
        if b.chainage <= a.chainage:
            raise FormatError(
                path, f"the profile of '{name}' does not run forwards at {b.chainage:.3f}; export it again"
            )
    return found


def _ring(path: Path, parcel: Any, scale: float) -> Floats:
    geometry = _child(parcel, "CoordGeom")
    if geometry is None or not len(geometry):
        return np.empty((0, 2))
    elements = [e for e in geometry if _child(e, "Start") is not None]
    return np.array([_point(path, e, "Start", scale) for e in elements] + [_point(path, elements[-1], "End", scale)])


def write_landxml(site: Delivery, path: Path) -> None:
    """Write the ground, the finished surface, every street's alignment and profile, and the lots as parcels.

    Elements, their order and their required attributes are those of the LandXML 1.2 schema.
    """
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
        for alignment in site.alignments:
            _write_alignment(alignments, alignment)
    if site.parcels:
        parcels = etree.SubElement(root, "Parcels")
        for land in site.parcels:
            _write_parcel(parcels, land.name, land.outline, land.area)
    named = [(n, s) for n, s in (("Ground", site.ground), (FINISHED, site.finished)) if not s.empty]
    if named:
        surfaces = etree.SubElement(root, "Surfaces")
        for name, surface in named:
            _write_surface(surfaces, name, surface)
    path.write_bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def _ne(point: Any) -> str:
    return " ".join(repr(float(v)) for v in (point[1], point[0], *point[2:]))


def _write_surface(parent: Any, name: str, surface: Surface) -> None:
    definition = etree.SubElement(etree.SubElement(parent, "Surface", name=name), "Definition", surfType="TIN")
    pnts = etree.SubElement(definition, "Pnts")
    for i, p in enumerate(surface.points, start=1):
        etree.SubElement(pnts, "P", id=str(i)).text = _ne(p)
    faces = etree.SubElement(definition, "Faces")
    for t in surface.triangles + 1:
        etree.SubElement(faces, "F").text = " ".join(map(str, t))


def _write_alignment(parent: Any, alignment: Alignment) -> None:
    chain, name = alignment.chain, alignment.name
    node = etree.SubElement(parent, "Alignment", name=name, length=repr(chain.total), staStart="0")
    geometry = etree.SubElement(node, "CoordGeom")
    ends = chain.points_at(chain.starts)
    for j, e in enumerate(chain.elements):
        start, end = chain.xy[j], ends[j + 1]
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
            etree.SubElement(item, "Center").text = _ne(start + radius * normal)
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
            etree.SubElement(item, "PI").text = _ne(_spiral_pi(chain, j, end))
        etree.SubElement(item, "End").text = _ne(end)
    p = alignment.profile
    if p is None:
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
