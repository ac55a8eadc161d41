"""The levels of a roundabout's circle and kerbs by hand: in the circle's long section, and where pits stand."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, tangents
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.crossing import crossings
from humble_loop.kinds.roundabout.layout import kerb_after
from humble_loop.kinds.roundabout.levels import CircleLine, rim_place
from humble_loop.kinds.roundabout.model import LEAST_TURN, CircleLevel, add_pit, set_roundabout
from humble_loop.kinds.roundabout.place import legs_of, middle_of, roundabout_name, roundabout_of, sizes_of
from humble_loop.lines.anchor import moved_anchor
from humble_loop.lines.describe import Handle, Place, Told, Typed
from humble_loop.lines.line import line
from humble_loop.site.edits import Edit
from humble_loop.site.model import Anchor

_DIGITS = 3  # of a level in metres
_LEAST = 3  # levels of a closed grade line
_FAR = 300.0  # metres from the middle within which a kerb is looked for
_NEAR = 5.0  # degrees from a pit within which it is meant


def to_own(q: Engine, id: str) -> Edit:
    """The edit that gives a circle its own levels: those that it had, else as it lies now where its legs cross it and half way between."""
    if len(roundabout_of(q, id).vips) >= _LEAST:
        return lambda s: set_roundabout(s, id, levels="own")
    return lambda s: set_roundabout(s, id, levels="own", vips=tuple(as_it_lies(q, id)))


def as_it_lies(q: Engine, id: str) -> list[CircleLevel]:
    """Levels of the circle as it lies now, where its legs cross it and half way between."""
    angles = [g.angle for g in legs_of(q, id)]
    turns = np.mod(np.diff([*angles, angles[0] + 2.0 * np.pi]), 2.0 * np.pi)
    turns[turns == 0.0] = 2.0 * np.pi
    parted = 2 if len(angles) > 1 else 4
    bearings = [_bearing(a + share * t) for a, t in zip(angles, turns) for share in np.arange(parted) / parted]
    bearings = sorted(dict.fromkeys(round(b, 2) % 360.0 for b in bearings))
    return [CircleLevel(bearing=b, level=round(_level(q, id, b), _DIGITS)) for b in bearings]


def _bearing(angle: float) -> float:
    return float(np.mod(90.0 - np.degrees(angle), 360.0))


def _at(q: Engine, id: str, bearing: float) -> float:
    """The chainage of the circle at a bearing."""
    return float(rim_place(q, id, [np.radians(90.0 - bearing)])[0])


def _level(q: Engine, id: str, bearing: float) -> float:
    return float(line(q, CircleLine(id)).rule.levels([_at(q, id, bearing)])[0])


def bearing_at(q: Engine, id: str, s: float) -> float:
    """The bearing at a chainage of the circle."""
    turned = np.degrees(s / sizes_of(q, id).radius)  # anticlockwise
    return float(np.mod(roundabout_of(q, id).seam - turned, 360.0))


def _own(q: Engine, id: str) -> bool:
    return roundabout_of(q, id).levels == "own" and not isinstance(q.attempt(line, CircleLine(id)), Unsolved)


def _vip_to(q: Engine, id: str, k: int, bearing: float, level: float) -> Edit:
    """The edit that moves a level; along the circle it stays between its neighbours."""
    vips = list(roundabout_of(q, id).vips)
    others = np.array([v.bearing for i, v in enumerate(vips) if i != k])
    away = np.mod(bearing - others + 180.0, 360.0) - 180.0
    if len(others) and np.abs(away).min() < LEAST_TURN:
        bearing = vips[k].bearing
    follows = vips[k].follows
    if follows is not None:  # it keeps following: by another fall
        follows = moved_anchor(q, follows, _place(q, id, bearing), level)
    vips[k] = CircleLevel(bearing=round(bearing % 360.0, 2), level=round(level, _DIGITS), follows=follows)
    return lambda s: set_roundabout(s, id, vips=tuple(vips))


def section_handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """The levels of a circle that has its own, in its long section."""
    if not _own(q, id):
        return ()
    found = []
    for k, v in enumerate(roundabout_of(q, id).vips):
        s, to, was = _at(q, id, v.bearing), partial(_vip_to, q, id, k), _level(q, id, v.bearing)

        def moved(
            place: Place, to: Callable[..., Edit] = to, v: CircleLevel = v, was: float = was
        ) -> tuple[Edit, tuple[Told, ...]]:
            b = bearing_at(q, id, place[0])
            return to(b, place[1]), (Told("level", "level", place[1], was), Told("at", "bearing", b, v.bearing))

        typed = (
            Typed("level", "a level", lambda z, to=to, v=v: to(v.bearing, z)),  # type: ignore[misc]
            Typed("bearing", "a bearing", lambda b, to=to, was=was: to(b, was), "b"),  # type: ignore[misc]
        )
        key = ("circle level", id, k)
        found.append(Handle(key, (s, was), f"{roundabout_name(q, id)} level", "square", moved, typed))
    return tuple(found)


def vip_facts(q: Engine, id: str) -> list[tuple[int, float, Callable[[float], Edit], Edit]]:
    """The levels of a circle that has its own: which each is, its chainage, the edit of a typed level, and the one that takes it out."""
    found = []
    for k, v in enumerate(roundabout_of(q, id).vips):
        to: Callable[[float], Edit] = lambda z, k=k, v=v: _vip_to(q, id, k, v.bearing, z)  # type: ignore[misc]  # noqa: E731
        out = level_removal(q, ("circle level", id, k))
        assert out is not None
        found.append((k, _at(q, id, v.bearing), to, out))
    return found


def anchoring(q: Engine, id: str, k: int) -> Callable[[Anchor | None], Edit]:
    """What lets level ``k`` of a circle follow by another anchor, or sets it free where it lies."""
    vips = list(roundabout_of(q, id).vips)
    level = round(_level(q, id, vips[k].bearing), _DIGITS)

    def to(anchor: Anchor | None) -> Edit:
        fresh = CircleLevel(bearing=vips[k].bearing, level=level, follows=anchor)
        return _set(id, [*vips[:k], fresh, *vips[k + 1 :]])

    return to


def let_follow(q: Engine, id: str, s: float, anchor: Anchor, level: float) -> Edit:
    """The edit that lets a circle follow another line at a chainage, ``level`` being where it lies then; its other levels are as it lies now."""
    made, bearing = roundabout_of(q, id), round(bearing_at(q, id, s), 2)
    vips = list(made.vips) if made.levels == "own" else as_it_lies(q, id)
    fresh = CircleLevel(bearing=bearing, level=round(level, _DIGITS), follows=anchor)
    apart = [v for v in vips if abs((v.bearing - bearing + 180.0) % 360.0 - 180.0) >= LEAST_TURN]
    return _set(id, [*apart, fresh])


def _place(q: Engine, id: str, bearing: float) -> Floats:
    """The place (2,) of the circle at a bearing."""
    found: Floats = line(q, CircleLine(id)).plan.base.points_at([_at(q, id, bearing)])[0]
    return found


def offers(q: Engine, id: str, place: Place) -> tuple[tuple[str, Edit], ...]:
    """What can be done at a place of the circle's long section."""
    if isinstance(q.attempt(line, CircleLine(id)), Unsolved):
        return ()
    made, bearing = roundabout_of(q, id), round(bearing_at(q, id, place[0]), 2)
    vips = list(made.vips) if made.levels == "own" else as_it_lies(q, id)
    fresh = CircleLevel(bearing=bearing, level=round(place[1], _DIGITS))
    apart = [v for v in vips if abs((v.bearing - bearing + 180.0) % 360.0 - 180.0) >= LEAST_TURN]
    found = [("Set a level here", _set(id, [*apart, fresh]))]
    if made.levels == "own" and len(vips) > _LEAST:
        k = int(np.argmin([abs((v.bearing - bearing + 180.0) % 360.0 - 180.0) for v in vips]))
        found.append(("Remove the nearest level", _set(id, [v for i, v in enumerate(vips) if i != k])))
    if made.levels == "own":
        found.append(("Give its levels back to the plane", lambda s: set_roundabout(s, id, levels="plane")))
    found += pit_offers(q, id, bearing)
    found.append(("Begin its long section here", lambda s: set_roundabout(s, id, seam=bearing)))
    return tuple(found)


def _set(id: str, vips: list[CircleLevel]) -> Edit:
    return lambda s: set_roundabout(s, id, levels="own", vips=tuple(sorted(vips, key=lambda v: v.bearing)))


def pit_offers(q: Engine, id: str, bearing: float) -> list[tuple[str, Edit]]:
    """Putting a pit at a bearing, or taking the one there away."""
    pits = roundabout_of(q, id).pits
    kept = tuple(p for p in pits if abs((p - bearing + 180.0) % 360.0 - 180.0) > _NEAR)
    if len(kept) < len(pits):
        return [("Take the pit here away", lambda s: set_roundabout(s, id, pits=kept))]
    return [("Put a pit on the kerb here", lambda s: add_pit(s, id, bearing))]


def pits_of(q: Engine, id: str) -> Floats:
    """Where pits stand (k, 2): on the kerb where that lies at each bearing, nearest to the middle."""
    found, middle = [], middle_of(q, id)
    kerbs = [m for g in legs_of(q, id) if not isinstance(m := q.attempt(kerb_after, id, g.key), Unsolved)]
    for bearing in roundabout_of(q, id).pits:
        ray = Chain.from_points([middle, middle + _FAR * tangents(np.radians(90.0 - bearing))])
        at = [ray.points_at([s])[0] for k in kerbs for s in crossings(ray, k.chain)[:, 0]]
        if at:
            found.append(min(at, key=lambda p: float(np.hypot(*(p - middle)))))
    return np.array(found).reshape(-1, 2)


def level_removal(q: Engine, held: tuple[Any, ...]) -> Edit | None:
    """The edit that takes a level out by the key of its handle; None for any other handle."""
    if held[:1] != ("circle level",):
        return None
    vips = [v for i, v in enumerate(roundabout_of(q, held[1]).vips) if i != held[2]]
    if len(vips) < _LEAST:
        return lambda s: set_roundabout(s, held[1], levels="plane")
    return _set(held[1], vips)
