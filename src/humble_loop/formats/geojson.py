"""GeoJSON: points with levels, and lines."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from humble_loop.formats.bundle import METRES, Bundle
from humble_loop.formats.coordinates import check_coordinates
from humble_loop.formats.errors import FormatError
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site.model import slug


def read_geojson(path: Path, *, units: str = "m") -> Bundle:
    """Read points (with a third coordinate) as ground points, and lines and rings as survey lines.

    Its numbers are in ``units``. Raises FormatError.
    """
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise FormatError(path, f"it cannot be read ({error.strerror or error})") from None
    except ValueError as error:
        raise FormatError(path, f"it is not complete JSON ({error}); export it again") from None
    features = data.get("features", [data]) if isinstance(data, dict) else []
    bundle, points = Bundle(), []
    for number, feature in enumerate(features, start=1):
        geometry = feature.get("geometry", feature) if isinstance(feature, dict) else None
        if not isinstance(geometry, dict):
            continue
        code = str((feature.get("properties") or {}).get("code", ""))
        try:
            for line in _lines(geometry):
                xyz = np.array([[*p, np.nan][:3] for p in line], dtype=np.float64) * METRES[units]
                if len(xyz) == 1:
                    points.append(xyz[0])
                    continue
                name = f"{code or 'line'} {number}"
                bundle.lines.append(
                    SurveyLine(
                        id=slug(f"{path.stem} {name}"),
                        name=name,
                        code=code,
                        source=path.name,
                        vertices=tuple((float(e), float(n), float(z) if np.isfinite(z) else None) for e, n, z in xyz),
                    )
                )
                if np.all(np.isfinite(xyz)):
                    bundle.breaklines.append(xyz)
        except (TypeError, ValueError):
            raise FormatError(path, f"feature {number} has coordinates that are not numbers; export it again") from None
    if points:
        found = np.array(points)
        found = found[np.isfinite(found[:, 2])]
        if len(found):
            check_coordinates(path, found)
        bundle.points = found
    if bundle.empty:
        raise FormatError(path, "it holds no points with levels and no lines")
    return bundle


def _lines(geometry: dict[str, Any]) -> list[list[Any]]:
    coordinates = geometry.get("coordinates", [])
    kind = geometry.get("type")
    if kind == "Point":
        return [[coordinates]]
    if kind == "MultiPoint":
        return [[c] for c in coordinates]
    if kind == "LineString":
        return [coordinates]
    if kind in ("MultiLineString", "Polygon"):
        return list(coordinates)
    return []
