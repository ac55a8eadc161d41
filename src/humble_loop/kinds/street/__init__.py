"""Streets: centreline, grade line, typical section, and what stands on them."""

from humble_loop.kinds.street.kind import Streets
from humble_loop.kinds.street.model import Bend, Street, Vip
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.street.section import StreetFace

__all__ = ["Bend", "Street", "StreetFace", "StreetLine", "Streets", "Vip"]
