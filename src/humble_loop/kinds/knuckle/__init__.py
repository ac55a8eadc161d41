"""Knuckles: tight elbows with a bulge outside of the bend, and an arc inside of it."""

from humble_loop.kinds.knuckle.faces import KnuckleFace
from humble_loop.kinds.knuckle.kind import Knuckles
from humble_loop.kinds.knuckle.layout import KnuckleLine
from humble_loop.kinds.knuckle.model import Knuckle

__all__ = ["Knuckle", "KnuckleFace", "KnuckleLine", "Knuckles"]
