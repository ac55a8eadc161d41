"""The parts of a site that queries read. Each is compared with its former self when the site changes."""

from __future__ import annotations

from humble_loop.ground.surface import Surface
from humble_loop.site.edits import junction_choice as _junction_choice
from humble_loop.site.model import (
    End,
    JunctionChoice,
    KerbShape,
    LotRow,
    SetOut,
    Settings,
    Site,
    Street,
    StreetClass,
    SurveyLine,
    TypicalSection,
    Vip,
)
from humble_loop.solve.engine import Unsolved, part


@part("settings")
def settings(site: Site) -> Settings:
    """The site's settings."""
    return site.settings


@part("streets")
def street_ids(site: Site) -> tuple[str, ...]:
    """Ids of all streets, in order."""
    return tuple(s.id for s in site.streets)


@part("lot_rows")
def lot_row_ids(site: Site) -> tuple[str, ...]:
    """Ids of all rows of lots, in order."""
    return tuple(r.id for r in site.lot_rows)


@part("lot_rows")
def lot_rows_of(site: Site, street: str) -> tuple[LotRow, ...]:
    """The rows of lots along one street."""
    return tuple(r for r in site.lot_rows if r.street == street)


@part("streets", keyed=True)
def street(site: Site, id: str) -> Street:
    """A street, without what does not shape it in plan or level being told apart."""
    found: Street | None = site.find("streets", id)
    if found is None:
        raise Unsolved(id, "there is no such street")
    return found


@part("streets", keyed=True)
def street_name(site: Site, id: str) -> str:
    """A street's name."""
    return street.function(site, id).name


@part("streets", keyed=True)
def street_bends(site: Site, id: str) -> tuple[tuple[float, float, float, float, float], ...]:
    """A street's bends as plain numbers: easting, northing, radius, transition in, transition out."""
    return tuple(
        (b.easting, b.northing, b.radius, b.transition_in, b.transition_out) for b in street.function(site, id).bends
    )


@part("streets", keyed=True)
def street_vips(site: Site, id: str) -> tuple[Vip, ...]:
    """The VIPs that were set on a street."""
    return street.function(site, id).vips


@part("streets", keyed=True)
def street_frame(site: Site, id: str) -> Street:
    """A street with its bends and VIPs left out of the comparison: kind, class, section, lips, head."""
    found = street.function(site, id)
    return found.model_copy(update={"vips": (), "bends": ()})


@part("streets", "street_classes", keyed=True)
def street_class(site: Site, id: str) -> StreetClass:
    """The class of street ``id``."""
    s = street.function(site, id)
    found: StreetClass | None = site.find("street_classes", s.street_class)
    if found is None:
        raise Unsolved(s.name, f"its street class '{s.street_class}' is not in the site", "choose another class")
    return found


@part("streets", "sections", keyed=True)
def section(site: Site, id: str) -> TypicalSection:
    """The typical section of street ``id``."""
    s = street.function(site, id)
    found: TypicalSection | None = site.find("sections", s.section)
    if found is None:
        raise Unsolved(s.name, f"its typical section '{s.section}' is not in the site", "choose another section")
    return found


@part("kerb_shapes", keyed=True)
def kerb_shape(site: Site, id: str) -> KerbShape:
    """A kerb shape."""
    found: KerbShape | None = site.find("kerb_shapes", id)
    if found is None:
        raise Unsolved("kerb shape", f"'{id}' is not in the site", "choose another kerb shape")
    return found


@part("junctions")
def junction_choice(site: Site, side: str, end: End) -> JunctionChoice:
    """What was decided about a junction."""
    return _junction_choice(site, side, end)


@part("survey_lines", keyed=True)
def survey_line(site: Site, id: str) -> SurveyLine:
    """A survey line."""
    found: SurveyLine | None = site.find("survey_lines", id)
    if found is None:
        raise Unsolved("survey line", f"'{id}' is not in the site", "choose another line")
    return found


@part("pads", keyed=True)
def pad_level(site: Site, lot: str) -> float | None:
    """The pad level that was set for a lot."""
    return next((p.level for p in site.pads if p.lot == lot), None)


@part("set_out")
def set_out(site: Site) -> SetOut:
    """How set-out points are taken."""
    return site.set_out


@part("grounds", "current_ground")
def current_surface(site: Site) -> Surface | None:
    """The current ground's surface, or None."""
    if not site.grounds:
        return None
    found = site.find("grounds", site.current_ground) if site.current_ground else None
    surface: Surface = (found or site.grounds[-1]).surface
    return None if surface.empty else surface
