"""Roundabouts: circles in which streets meet."""

from humble_loop.kinds.roundabout.kind import Roundabouts
from humble_loop.kinds.roundabout.model import Roundabout

__all__ = ["Roundabout", "Roundabouts"]
