"""The file as a tree: its elements by name, numbers and points in metres, and one sentence for what is wrong."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from lxml import etree

from humble_loop.formats.bundle import METRES
from humble_loop.formats.errors import FormatError
from humble_loop.geometry.arrays import Floats

_UNITS = {
    "meter": "m",
    "metre": "m",
    "foot": "ft",
    "ussurveyfoot": "us-ft",
    "millimeter": "mm",
    "centimeter": "cm",
    "kilometer": "km",
    "inch": "in",
    "mile": "mi",
}


class Tree:
    """One LandXML file: ``root``, ``scale`` (metres in its unit of length) and its named points."""

    def __init__(self, path: Path, units: str) -> None:
        self.path = path
        self.root = _root(path)
        self.scale = self._scale(units)
        self._named: dict[str, Any] = {
            p.get("name"): p for group in every(self.root, "CgPoints") for p in every(group, "CgPoint") if p.get("name")
        }

    def wrong(self, words: str) -> FormatError:
        """The error that says ``words`` about this file."""
        return FormatError(self.path, words)

    def numbers(self, text: str | None, count: int) -> list[float]:
        """At least ``count`` numbers out of ``text``, as they stand there."""
        try:
            values = [float(v) for v in (text or "").split()]
        except ValueError:
            values = []
        if len(values) < count or not np.all(np.isfinite(values)):
            many = "a number" if count == 1 else f"{count} numbers"
            raise self.wrong(f"'{(text or '').strip()[:40]}' should be {many}; export it again")
        return values

    def length(self, node: Any, key: str, default: float = 0.0) -> float:
        """The attribute ``key`` in metres, infinite for INF, ``default`` where it is not given."""
        word = node.get(key)
        if word is None:
            return default
        if word.strip().upper().startswith("INF"):
            return float("inf")
        return self.numbers(word, 1)[0] * self.scale

    def radius(self, node: Any, key: str) -> float:
        """The radius ``key`` in metres without its sign; infinite where it is not given, 0 or INF."""
        return abs(self.length(node, key, float("inf"))) or float("inf")

    def text_of(self, node: Any) -> str:
        """A point's numbers: its own, or those of the named point that it refers to."""
        for _ in range(8):
            named = node.get("pntRef")
            if named is None or (node.text or "").strip():
                break
            if named not in self._named:
                raise self.wrong(f"it refers to a point '{named}' that is not there; export it again")
            node = self._named[named]
        return node.text or ""

    def vertex(self, node: Any) -> Floats:
        """Easting, northing and level of a point element in metres; the level is NaN where it has none."""
        n, e, *z = self.numbers(self.text_of(node), 2)
        return np.array([e, n, *(z[:1] or [np.nan])]) * self.scale

    def named_vertex(self, name: str) -> Floats:
        """The named point ``name``, as ``vertex``."""
        if name not in self._named:
            raise self.wrong(f"it refers to a point '{name}' that is not there; export it again")
        return self.vertex(self._named[name])

    def point(self, node: Any, name: str, words: str) -> Floats:
        """Easting and northing of the child ``name``; ``words`` say whose it is, for when it is not there."""
        found = child(node, name)
        if found is None:
            raise self.wrong(f"{words} has a {local(node)} that has no {name} point; export it again")
        return self.vertex(found)[:2]

    def vertices(self, node: Any, columns: int) -> Floats:
        """A list of points (n, 3) in metres, from ``columns`` (2 or 3) numbers each; without levels they are NaN."""
        values = self.numbers(node.text, columns)
        if len(values) % columns:
            raise self.wrong(f"a {local(node)} has {len(values)} numbers, which is no multiple of {columns}")
        rows = np.array(values).reshape(-1, columns) * self.scale
        level = rows[:, 2:3] if columns == 3 else np.full((len(rows), 1), np.nan)
        return np.concatenate([rows[:, [1, 0]], level], axis=1)

    def _scale(self, units: str) -> float:
        for found in every(self.root, "Units"):
            for system in children(found):
                word = (system.get("linearUnit") or "meter").lower()
                if word not in _UNITS:
                    raise self.wrong(f"its unit of length '{word}' is not known; export it in metres or feet")
                return METRES[_UNITS[word]]
        return METRES[units]


def local(node: Any) -> str:
    """An element's name without its namespace."""
    return str(etree.QName(node).localname)


def every(node: Any, name: str) -> Iterator[Any]:
    """All elements ``name`` in ``node``, however deep, and itself."""
    return iter(node.iter(f"{{*}}{name}"))


def children(node: Any) -> list[Any]:
    """The elements directly in ``node``."""
    return [n for n in node if isinstance(n.tag, str)]


def child(node: Any, name: str) -> Any:
    """The first element ``name`` directly in ``node``, or None."""
    return next((n for n in children(node) if local(n) == name), None)


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
    if local(root) != "LandXML":
        raise FormatError(path, f"its root is '{local(root)}', not LandXML; export it as LandXML 1.2")
    return root
