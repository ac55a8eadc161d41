"""Turning a worked-out proposal into VIPs that the designer owns."""

from __future__ import annotations

from humble_loop.site.edits import set_vips
from humble_loop.site.model import Site, Vip
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine
from humble_loop.solve.street import grade_line


def proposed_vips(q: Engine, street: str) -> list[Vip]:
    """The VIPs of a street's grade line as it stands, without the tied ends, which stay tied."""
    line = grade_line(q, street)
    last = len(line.states) - 1
    return [
        Vip(chainage=float(s), level=float(z), curve_length=0.0 if i in (0, last) else float(c))
        for i, (s, z, c, state) in enumerate(
            zip(line.profile.chainages, line.profile.levels, line.profile.curves, line.states, strict=True)
        )
        if state != "tied"
    ]


def keep_proposal(q: Engine, site: Site, street: str) -> Site:
    """The site with a street's proposed grade line set, so that it no longer follows the ground by itself.

    A street whose VIPs are set already comes back unchanged.
    """
    if parts.street_vips(q, street):
        return site
    return set_vips(site, street, proposed_vips(q, street))
