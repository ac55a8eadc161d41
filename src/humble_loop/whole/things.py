"""Every thing of every kind."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.lines.faces import FaceId
from humble_loop.lines.line import LineId, ThingId
from humble_loop.lines.standing import kind_of, kinds


@gate
def things_of(q: Engine, kind: str) -> tuple[ThingId, ...]:
    """The things of a kind."""
    return kind_of(kind).things(q)


@query
def things_by_street(q: Engine, kind: str) -> dict[str, tuple[ThingId, ...]]:
    """The things of a kind by the streets that they are or stand on."""
    found: dict[str, list[ThingId]] = {}
    for thing in things_of(q, kind):
        for street in kind_of(kind).streets_of(q, thing):
            found.setdefault(street, []).append(thing)
    return {street: tuple(things) for street, things in found.items()}


def all_things(q: Engine) -> tuple[ThingId, ...]:
    """Every thing of the site, kind by kind."""
    return tuple(t for kind in kinds() for t in things_of(q, kind.key))


def thing_of(q: Engine, id: LineId | FaceId) -> ThingId:
    """The thing that a line or a face is of."""
    return kind_of(id.kind).thing_of(q, id)


def exists(q: Engine, thing: ThingId | None) -> bool:
    """Whether a thing is there."""
    return thing is not None and any(k.key == thing.kind for k in kinds()) and thing in things_of(q, thing.kind)


def name_of(q: Engine, thing: ThingId) -> str:
    """What people call a thing; its id where it cannot be told."""
    try:
        return kind_of(thing.kind).name(q, thing)
    except Unsolved:
        return thing.id


@gate
def faces_of(q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
    """The faces of a thing."""
    return kind_of(thing.kind).faces(q, thing)


@query
def all_faces(q: Engine) -> tuple[FaceId, ...]:
    """Every face of the site, kind by kind."""
    found: list[FaceId] = []
    for thing in all_things(q):
        made = q.attempt(faces_of, thing)
        found += () if isinstance(made, Unsolved) else made
    return tuple(found)


@query
def progress_of(q: Engine, kind: str) -> dict[str, float]:
    """How far the things of a kind are settled, as shares by the titles of stages."""
    return kind_of(kind).progress(q)
