"""Islands: kerbed islands on a carriageway, as splitters before a junction, noses of medians and refuges."""

from humble_loop.kinds.island.kind import Islands
from humble_loop.kinds.island.layout import IslandFace, IslandLine
from humble_loop.kinds.island.model import Island

__all__ = ["Island", "IslandFace", "IslandLine", "Islands"]
