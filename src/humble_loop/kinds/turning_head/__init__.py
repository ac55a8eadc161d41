"""Turning heads: bulbs at the ends of streets."""

from humble_loop.kinds.turning_head.faces import HeadFace
from humble_loop.kinds.turning_head.kind import TurningHeads
from humble_loop.kinds.turning_head.layout import HeadLine
from humble_loop.kinds.turning_head.model import TurningHead

__all__ = ["HeadFace", "HeadLine", "TurningHead", "TurningHeads"]
