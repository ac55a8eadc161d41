"""Streets: centreline, grade line, typical section, and what stands on them."""

from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.kind import Streets
from humble_loop.kinds.street.model import Bend, Street, Vip
from humble_loop.kinds.street.plan import StreetLine

__all__ = ["Bend", "Street", "StreetFace", "StreetLine", "Streets", "Vip"]
