"""Ties: stretches along which a section point follows something else in level."""

from humble_loop.kinds.tie.kind import Ties
from humble_loop.kinds.tie.model import LevelTie, Source

__all__ = ["LevelTie", "Source", "Ties"]
