"""Grounds: surfaces of what is there today. One of them is current."""

from humble_loop.kinds.ground.kind import Grounds
from humble_loop.kinds.ground.model import Ground

__all__ = ["Ground", "Grounds"]
