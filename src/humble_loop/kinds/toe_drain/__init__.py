"""Drains along the toe of a cut: where the ground beyond would shed water onto the road, or where one is wanted."""

from humble_loop.kinds.toe_drain.kind import ToeDrains
from humble_loop.kinds.toe_drain.model import DrainChoice, DrainGrade
from humble_loop.kinds.toe_drain.place import DrainLine

__all__ = ["DrainChoice", "DrainGrade", "DrainLine", "ToeDrains"]
