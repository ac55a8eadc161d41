"""The kinds of things, each in its own room. They stand in this one tuple, and everything else loops over it.

A kind may read those before it; what an earlier kind needs from a later one comes through the protocol
(``humble_loop.lines.kind``).
"""

from humble_loop.kinds.continuation import Continuations
from humble_loop.kinds.driveway import Driveways
from humble_loop.kinds.fall_window import FallWindows
from humble_loop.kinds.ground import Grounds
from humble_loop.kinds.island import Islands
from humble_loop.kinds.junction import Junctions
from humble_loop.kinds.kerb_line import KerbLines
from humble_loop.kinds.knuckle import Knuckles
from humble_loop.kinds.lot import Lots
from humble_loop.kinds.roundabout import RoundaboutLegs, Roundabouts
from humble_loop.kinds.street import Streets
from humble_loop.kinds.survey_line import SurveyLines
from humble_loop.kinds.tie import Ties
from humble_loop.kinds.toe_drain import ToeDrains
from humble_loop.kinds.turning_head import TurningHeads
from humble_loop.lines.standing import stand

KINDS = (
    Grounds(),
    SurveyLines(),
    Streets(),
    Ties(),
    KerbLines(),
    FallWindows(),
    Junctions(),
    Roundabouts(),
    RoundaboutLegs(),
    TurningHeads(),
    Continuations(),
    Knuckles(),
    Islands(),
    ToeDrains(),
    Lots(),
    Driveways(),
)

stand(*KINDS)
