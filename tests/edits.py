"""Every edit under one name, for tests that make sites."""

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground.model import add_ground
from humble_loop.kinds.junction.model import set_corner
from humble_loop.kinds.lot.kind import pad_edit
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.model import add_lot_row, remove_lot_row, set_lot_row
from humble_loop.kinds.lot.pad import pad
from humble_loop.kinds.street.edits import (
    add_street,
    insert_bend,
    move_bend,
    remove_bend,
    remove_street,
    rename_street,
    reverse_street,
    set_bend,
    set_street,
    set_vip,
    set_vips,
)
from humble_loop.kinds.street.plan import street_ids
from humble_loop.kinds.survey_line.model import add_survey_lines
from humble_loop.kinds.turning_head.model import remove_head, set_head
from humble_loop.site.edits import EditError, set_section, set_set_out, set_settings

__all__ = [
    "EditError",
    "add_ground",
    "add_lot_row",
    "add_street",
    "add_survey_lines",
    "insert_bend",
    "move_bend",
    "remove_bend",
    "remove_head",
    "remove_lot_row",
    "remove_street",
    "rename_street",
    "reverse_street",
    "set_bend",
    "set_corner",
    "set_head",
    "set_lot_row",
    "set_pad",
    "set_section",
    "set_set_out",
    "set_settings",
    "set_street",
    "set_vip",
    "set_vips",
]


def set_pad(site, lot_name, level):
    """Set the pad of the lot with that name, as the window does."""
    q = Engine(site)
    frame = next(f for s in street_ids(q) for f in lots_on(q, s) if f.name == lot_name)
    return pad_edit(pad(q, frame.id), frame, level)(site)
