"""Driveways: the way into every lot, from the lip over the lowered kerb, the path and the boundary to the pad."""

from humble_loop.kinds.driveway.kind import Driveways
from humble_loop.kinds.driveway.model import DrivewayChoice

__all__ = ["DrivewayChoice", "Driveways"]
