"""Reading DXF: points, lines, polylines and 3D faces."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
from ezdxf import recover
from ezdxf.lldxf.const import DXFError

from humble_loop.formats.bundle import METRES, Bundle, SurfaceIn
from humble_loop.formats.coordinates import MOST_CHORDS, MOST_CHORDS_IN_ALL, check_coordinates, chords
from humble_loop.formats.errors import FormatError
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.surface import Surface
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site.model import slug

# $INSUNITS of a drawing: the codes that are units of length on a site; 0 names none.
_INSUNITS = {1: "in", 2: "ft", 3: "mi", 4: "mm", 5: "cm", 6: "m", 7: "km", 10: "yd", 14: "dm", 21: "us-ft"}


def read_dxf(path: Path, *, units: str = "m") -> Bundle:
    """Read points, lines, polylines (arcs in them as chords within 10 mm) and 3D faces from model space.

    The drawing's own unit is used where it says one, else ``units``. Lines with levels become breaklines as
    well as survey lines; lines at level zero have none. Raises FormatError.
    """
    try:
        if not path.read_bytes()[:4096].strip():
            raise FormatError(path, "the file is empty; check that it was written completely")
        drawing, _ = recover.readfile(str(path))
    except OSError as error:
        raise FormatError(
            path, f"it cannot be read as a drawing ({error.strerror or error}); save it as DXF again"
        ) from None
    except (DXFError, UnicodeError, ValueError, IndexError, KeyError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError(path, f"it is not a complete DXF drawing ({str(error)[:80]}); save it as DXF again") from None
    scale = METRES[_unit(path, drawing, units)]
    bundle = Bundle()
    points: list[Floats] = []
    faces: list[Floats] = []
    nowhere, endless, drawn = 0, 0, 0.0
    for i, entity in enumerate(drawing.modelspace()):
        kind = entity.dxftype()
        if kind == "POINT":
            found = np.array(entity.dxf.location, dtype=np.float64) * scale
            if np.all(np.isfinite(found)):
                points.append(found)
            else:
                nowhere += 1
        elif kind == "3DFACE":
            corners = (
                np.array([entity.dxf.vtx0, entity.dxf.vtx1, entity.dxf.vtx2, entity.dxf.vtx3], dtype=np.float64) * scale
            )
            if not np.all(np.isfinite(corners)):
                nowhere += 1
                continue
            faces.append(corners[:3])
            if np.abs(corners[3] - corners[2]).max() > 1e-9:
                faces.append(corners[[0, 2, 3]])
        elif kind in ("LINE", "LWPOLYLINE", "POLYLINE", "ARC"):
            count = _chords(entity, 0.01 / scale)
            if not count <= min(MOST_CHORDS, MOST_CHORDS_IN_ALL - drawn):
                endless += 1
                continue
            drawn += count
            vertices = _vertices(entity, 0.01 / scale) * scale
            if not np.all(np.isfinite(vertices)):
                nowhere += 1
            elif len(vertices) >= 2:
                _line(path, bundle, entity.dxf.layer, i, vertices)
    if nowhere:
        bundle.notes.append(
            f"{path.name}: {nowhere} of its entities have coordinates that are no numbers, and are left out"
        )
    if endless:
        bundle.notes.append(
            f"{path.name}: {endless} of its lines have arcs that take too many chords to be followed, and are left out"
        )
    if points:
        bundle.points = np.array(points)
    if faces:
        bundle.surfaces.append(SurfaceIn(path.stem, _from_faces(np.array(faces))))
    if bundle.empty:
        why = f" ({'; '.join(n.partition(': ')[2] for n in bundle.notes)})" if bundle.notes else ""
        raise FormatError(path, f"it holds no points, lines, polylines or 3D faces in model space{why}")
    for xyz in (bundle.points, *(s.surface.points for s in bundle.surfaces), *bundle.breaklines):
        if len(xyz):
            check_coordinates(path, xyz, may_be_degrees=False)
    return bundle


def _unit(path: Path, drawing: Any, units: str) -> str:
    code = int(drawing.header.get("$INSUNITS", 0))
    if code and code not in _INSUNITS:
        raise FormatError(path, f"its unit (code {code} of $INSUNITS) is not known; save it in metres or feet")
    return _INSUNITS.get(code, units)


def _vertices(entity: Any, sag: float) -> Floats:
    """Vertices (n, 3) of a line in drawing units; arcs as chords within ``sag`` of them."""
    kind = entity.dxftype()
    if kind == "LINE":
        return np.array([entity.dxf.start, entity.dxf.end], dtype=np.float64)
    if kind == "ARC":
        return np.array([tuple(v) for v in entity.flattening(sag)], dtype=np.float64)
    if kind == "POLYLINE" and entity.is_3d_polyline:
        points = [tuple(v.dxf.location) for v in entity.vertices]
        if entity.is_closed:
            points.append(points[0])
        return np.array(points, dtype=np.float64)
    if kind == "POLYLINE" and not entity.is_2d_polyline:
        return np.empty((0, 3))
    begin = np.asarray(
        tuple(next(iter(entity.points_in_wcs()))) if kind == "POLYLINE" else tuple(next(iter(entity.vertices_in_wcs())))
    )
    pieces = [begin[None, :3]]
    for piece in entity.virtual_entities():
        line = _vertices(piece, sag)
        # An arc is stored anticlockwise whichever way the polyline goes round it.
        at = pieces[-1][-1]
        if np.abs(line[-1] - at).max() < np.abs(line[0] - at).max():
            line = line[::-1]
        pieces.append(line[1:])
    return np.concatenate(pieces)


def _chords(entity: Any, sag: float) -> float:
    """How many chords the arcs of a line take, none where it has no arcs; not finite where an arc is none."""
    kind = entity.dxftype()
    if kind == "ARC":
        angle = math.radians((entity.dxf.end_angle - entity.dxf.start_angle) % 360.0 or 360.0)
        radius = abs(float(entity.dxf.radius))
        return float(chords(radius * angle, 1.0 / radius, sag)) if radius > 0 else 0.0
    if kind == "LWPOLYLINE":
        rows, closed = np.array(entity.get_points("xyb"), dtype=np.float64).reshape(-1, 3), entity.closed
    elif kind == "POLYLINE" and entity.is_2d_polyline:
        rows = np.array([(*v.dxf.location.vec2, v.dxf.bulge) for v in entity.vertices], dtype=np.float64).reshape(-1, 3)
        closed = entity.is_closed
    else:
        return 0.0
    if not closed:
        rows[-1:, 2] = 0.0  # a bulge towards a vertex that does not follow
    bulge, chord = np.abs(rows[:, 2]), np.hypot(*(np.roll(rows[:, :2], -1, axis=0) - rows[:, :2]).T)
    with np.errstate(all="ignore"):
        radius = chord * (1.0 + bulge**2) / (4.0 * bulge)
        count = chords(radius * 4.0 * np.arctan(bulge), 1.0 / radius, sag)
        return float(np.where((bulge > 0) & (chord > 0), count, 0.0).sum())


def _line(path: Path, bundle: Bundle, layer: str, number: int, vertices: Floats) -> None:
    has_levels = bool(np.any(np.abs(vertices[:, 2]) > 1e-9))
    check_coordinates(path, vertices, may_be_degrees=False)
    bundle.lines.append(
        SurveyLine(
            id=slug(f"{path.stem} {layer} {number}"),
            name=f"{layer} {number}",
            code=layer,
            source=path.name,
            vertices=tuple((float(e), float(n), float(z) if has_levels else None) for e, n, z in vertices),
        )
    )
    if has_levels:
        bundle.breaklines.append(vertices)


def _from_faces(faces: Floats) -> Surface:
    flat = faces.reshape(-1, 3)
    keys = np.round(flat / 1e-6).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    triangles = inverse.reshape(-1, 3)
    ok = (
        (triangles[:, 0] != triangles[:, 1])
        & (triangles[:, 1] != triangles[:, 2])
        & (triangles[:, 0] != triangles[:, 2])
    )
    return Surface(flat[first], triangles[ok])
