"""Roundabouts: circles in which streets meet."""

from humble_loop.kinds.roundabout.faces import RoundaboutFace
from humble_loop.kinds.roundabout.kind import RoundaboutLegs, Roundabouts
from humble_loop.kinds.roundabout.layout import KerbLine, legs_beside
from humble_loop.kinds.roundabout.leg_islands import LegIslandLine
from humble_loop.kinds.roundabout.levels import CircleLine
from humble_loop.kinds.roundabout.model import Roundabout
from humble_loop.kinds.roundabout.place import legs_on

__all__ = [
    "CircleLine",
    "KerbLine",
    "LegIslandLine",
    "Roundabout",
    "RoundaboutFace",
    "RoundaboutLegs",
    "Roundabouts",
    "legs_beside",
    "legs_on",
]
