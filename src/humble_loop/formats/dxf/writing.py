"""Writing DXF: centrelines, lines, lots, set-out points, contours and the finished surface."""

from __future__ import annotations

import pickle
from collections.abc import Sequence
from io import StringIO
from pathlib import Path
from typing import Any

import numpy as np

from humble_loop.formats.errors import FormatError
from humble_loop.formats.safe_write import write_whole
from humble_loop.formats.text_table import HERE, Text, decimals, hexadecimals, rows
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.contour import contour_lines
from humble_loop.ground.surface import Surface
from humble_loop.lines.describe import SetOutPoint
from humble_loop.whole.delivery import Alignment, Delivery, Land

_COLOURS = {
    "centreline": 5,
    "left lip": 30,
    "right lip": 30,
    "return": 30,
    "boundary": 8,
    "pad": 3,
    "lot": 3,
    "set-out": 1,
    "finished contour": 32,
    "finished surface": 9,
}
_NOT_DRAWN = frozenset(
    {"crown", "survey", "kerb line", "tie"}
)  # the centreline and section points stand for three; surveys are the surveyor's


def write_dxf(site: Delivery, path: Path) -> None:
    """Write centrelines, every line by its role, parcels, set-out points, contours and the finished surface."""
    begun: list[Any] = []
    site.expect(surface=True, lines_but=_NOT_DRAWN, meanwhile=lambda: begun.append(_new_drawing()))
    drawing = begun[0]
    space = drawing.modelspace()
    handles = _Handles(drawing.entitydb.handles, space.layout_key)
    own = handles.many(len(site.finished.triangles))
    surface = site.aside(lambda: pickle.dumps((_faces(site.finished, own, handles.owner), _contours(site, path))))
    lines = site.lines_but(_NOT_DRAWN)
    roles = dict.fromkeys(line.role for line in lines)
    for name in (*_COLOURS, *(r for r in roles if r not in _COLOURS)):
        drawing.layers.add(name, color=_COLOURS.get(name, 7))
    for alignment in site.alignments:
        _write_centreline(space, alignment)
    many = [_outline(land, handles) + _text(land, handles) for land in site.parcels]
    many += [_numbered_point(number, p, handles) for number, p in site.set_out]
    for role in roles:
        many += _polylines(role, [line.points for line in lines if line.role == role], handles)
    faces, contours = pickle.loads(surface())
    many += _flat_polylines(contours, handles)
    written = StringIO()
    drawing.write(written)
    before, after = _about_entities(written.getvalue())
    write_whole(path, [before.encode(), *many, faces, after.encode()])


def _new_drawing() -> Any:
    """An empty drawing in metres."""
    from ezdxf.filemanagement import new as new_drawing  # takes as long to load as to write a street

    drawing = new_drawing("R2018", setup=True)
    drawing.units = 6
    return drawing


def _contours(site: Delivery, path: Path) -> list[tuple[float, Floats]]:
    try:
        return contour_lines(site.finished, site.contour_interval)
    except ValueError as error:
        raise FormatError(path, str(error)) from None


# A drawing has more points, vertices and faces than all else together: one by one through the library they take a
# minute for a large estate, and as text a second. Their handles are reserved in the drawing.


class _Handles:
    """Handles of new entities, of eight digits each, and the one of the space that owns them."""

    def __init__(self, drawing: Any, owner: str) -> None:
        self._drawing, self.owner = drawing, owner
        drawing.reset(f"{max(int(str(drawing), 16), 16**7):X}")

    def next(self) -> str:
        """One handle."""
        return str(self._drawing.next())

    def many(self, count: int) -> Text:
        """Handles as a column of text (count, 8)."""
        first = int(str(self._drawing), 16)
        self._drawing.reset(f"{first + count:X}")
        return hexadecimals(np.arange(first, first + count), 8)


def _about_entities(text: str) -> tuple[str, str]:
    """A drawing up to the end of its entities, where more of them go, and what follows."""
    begin = text.index("ENTITIES\n", text.index("  2\nENTITIES\n"))
    end = text.index("  0\nENDSEC\n", begin)
    return text[:end], text[end:]


def _entity(kind: str, handle: str, owner: str, layer: str) -> str:
    return f"  0\n{kind}\n  5\n{handle}\n330\n{owner}\n100\nAcDbEntity\n  8\n{layer}\n"


def _polylines(layer: str, lines: Sequence[Floats], handles: _Handles) -> list[bytes]:
    """3D polylines (each (n, 3)) of one layer."""
    own, ends = handles.many(len(lines)), handles.many(len(lines))
    counts = [len(points) for points in lines]
    points = np.concatenate(lines)
    head = f"{_entity('POLYLINE', HERE, handles.owner, layer)}100\nAcDb3dPolyline\n 66\n1\n 10\n0.0\n 20\n0.0\n 30\n0.0\n 70\n8\n"
    vertex = f"{_entity('VERTEX', HERE, HERE, layer)}100\nAcDbVertex\n100\nAcDb3dPolylineVertex\n"
    vertex += f" 10\n{HERE}\n 20\n{HERE}\n 30\n{HERE}\n 70\n32\n"
    heads, tails = rows(head, own), rows(_entity("SEQEND", HERE, HERE, layer), ends, own)
    places = (decimals(points[:, k]) for k in range(3))
    vertices = rows(vertex, handles.many(len(points)), np.repeat(own, counts, axis=0), *places)
    cut = np.split(vertices, np.cumsum(counts)[:-1])
    return [head.tobytes() + inner.tobytes() + tail.tobytes() for head, inner, tail in zip(heads, cut, tails)]


def _numbered_point(number: int, p: SetOutPoint, handles: _Handles) -> bytes:
    """A set-out point with its number beside it."""
    at = f" 10\n{p.easting:.9f}\n 20\n{p.northing:.9f}\n 30\n{p.level:.9f}\n"
    beside = f" 10\n{p.easting + 0.2:.9f}\n 20\n{p.northing + 0.2:.9f}\n 30\n{p.level:.9f}\n"
    point = f"{_entity('POINT', handles.next(), handles.owner, 'set-out')}100\nAcDbPoint\n{at}"
    text = f"{_entity('TEXT', handles.next(), handles.owner, 'set-out')}100\nAcDbText\n{beside}"
    return f"{point}{text} 40\n0.4\n  1\n{number}\n100\nAcDbText\n".encode()


def _flat_polylines(contours: Sequence[tuple[float, Floats]], handles: _Handles) -> list[bytes]:
    """Contours: flat polylines (each (n, 2)) at their levels."""
    if not contours:
        return []
    vertices = _flat_vertices(np.concatenate([points for _, points in contours]))
    cut = np.split(vertices, np.cumsum([len(points) for _, points in contours])[:-1])
    return [
        _flat_head("finished contour", len(inner), f" 70\n0\n 38\n{level:.9f}\n", handles) + inner.tobytes()
        for (level, _), inner in zip(contours, cut)
    ]


def _outline(land: Land, handles: _Handles) -> bytes:
    """The closed outline of a lot."""
    vertices = _flat_vertices(land.outline).tobytes()
    return _flat_head("lot", len(land.outline), " 70\n1\n", handles) + vertices


def _flat_vertices(points: Floats) -> Text:
    return rows(f" 10\n{HERE}\n 20\n{HERE}\n", decimals(points[:, 0]), decimals(points[:, 1]))


def _flat_head(layer: str, count: int, more: str, handles: _Handles) -> bytes:
    entity = _entity("LWPOLYLINE", handles.next(), handles.owner, layer)
    return f"{entity}100\nAcDbPolyline\n 90\n{count}\n{more}".encode()


def _text(land: Land, handles: _Handles) -> bytes:
    """The name of a lot in its middle."""
    e, n = land.outline.mean(axis=0).tolist()
    at = f" 10\n{e:.9f}\n 20\n{n:.9f}\n 30\n0.0\n 40\n0.8\n  1\n{land.name}\n"
    return f"{_entity('TEXT', handles.next(), handles.owner, 'lot')}100\nAcDbText\n{at}100\nAcDbText\n".encode()


def _faces(surface: Surface, own: Text, owner: str) -> bytes:
    """3D faces with their ``own`` handles, with the third corner given twice."""
    places = [decimals(surface.points[:, k]) for k in range(3)]
    corners = [rows(f" 1{k}\n{HERE}\n 2{k}\n{HERE}\n 3{k}\n{HERE}\n", *places) for k in range(4)]
    face = f"{_entity('3DFACE', HERE, owner, 'finished surface')}100\nAcDbFace\n{4 * HERE}"
    a, b, c = surface.triangles.T
    at = [corner[i] for corner, i in zip(corners, (a, b, c, c))]
    return rows(face, own, *at).tobytes()


def _write_centreline(space: Any, alignment: Alignment) -> None:
    chain = alignment.chain
    if any(e.kind == "transition" for e in chain.elements):
        space.add_lwpolyline(chain.points_at(chain.sampled(sag=0.002)), dxfattribs={"layer": "centreline"})
        return
    ends = chain.points_at(chain.starts)
    bulges = [float(np.tan(e.k0 * e.length / 4)) if e.kind == "arc" else 0.0 for e in chain.elements]
    vertices = [(*p, b) for p, b in zip(ends, [*bulges, 0.0])]
    space.add_lwpolyline(vertices, format="xyb", dxfattribs={"layer": "centreline"})
