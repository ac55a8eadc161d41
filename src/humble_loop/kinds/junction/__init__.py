"""Junctions: nodes where streets meet, throats, returns."""

from humble_loop.kinds.junction.corners import ReturnLine
from humble_loop.kinds.junction.faces import JunctionFace
from humble_loop.kinds.junction.kind import Junctions
from humble_loop.kinds.junction.model import Corner, JunctionChoice

__all__ = ["Corner", "JunctionChoice", "JunctionFace", "Junctions", "ReturnLine"]
