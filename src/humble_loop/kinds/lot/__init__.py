"""Lots: rows along streets and round heads, each lot with a pad."""

from humble_loop.kinds.lot.kind import Lots
from humble_loop.kinds.lot.model import LotRow, PadChoice
from humble_loop.kinds.lot.pad import LotFace, PadLine

__all__ = ["LotFace", "LotRow", "Lots", "PadChoice", "PadLine"]
