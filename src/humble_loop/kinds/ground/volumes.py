"""Earthworks of faces against the current ground."""

from __future__ import annotations

from humble_loop.engine.query import Engine, query
from humble_loop.ground.volume import Volume, volume_between
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.faces import FaceId, finished_mesh


@query
def face_volume(q: Engine, id: FaceId) -> Volume:
    """Cut and fill of one face against the current ground."""
    return volume_between(ground_of(q), finished_mesh(q, id).surface)
