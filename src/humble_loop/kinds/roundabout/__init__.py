"""Roundabouts: circles in which streets meet."""

from humble_loop.kinds.roundabout.kind import RoundaboutLegs, Roundabouts
from humble_loop.kinds.roundabout.model import Roundabout

__all__ = ["Roundabout", "RoundaboutLegs", "Roundabouts"]
