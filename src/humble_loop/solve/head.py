"""Turning heads: the bulb at a street's end, and a grade line round its lip that drains."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from humble_loop.geometry.arcs import BulbOutline, DoesNotFit, bulb_outline
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.gradeline import Profile
from humble_loop.site.model import Head, Side
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.junction import joint
from humble_loop.solve.street import chain_of, crown_levels, grade_line, lane_width, side_sign

# An offset of less than half a millimetre is none: nobody can build it, and tangent points that lie a hair apart
# would make slivers.
_NO_OFFSET = 0.0005
_ROUNDING = 6.0  # metres of parabola where the ring leaves the straight lips and at its high or low point


def head_of(q: Engine, street: str) -> Head | None:
    """The turning head that was decided on, or None."""
    return parts.street_frame(q, street).head


def require_head(q: Engine, street: str) -> Head:
    """The turning head. Raises Unsolved when the street has none."""
    head = head_of(q, street)
    if head is None:
        raise Unsolved(parts.street_name(q, street), "it has no turning head")
    return head


@query
def head_outline(q: Engine, street: str) -> BulbOutline:
    """The bulb's lip in plan."""
    head = require_head(q, street)
    name = parts.street_name(q, street)
    if joint(q, street, "end") is not None:
        raise Unsolved(
            f"{name} bulb",
            "the street ends on another street, where no bulb can stand",
            "reverse the street, or take the bulb away",
        )
    try:
        return bulb_outline(
            chain_of(q, street),
            lane_width(q, street, "left"),
            lane_width(q, street, "right"),
            head.radius,
            head.return_radius,
            head.offset if abs(head.offset) >= _NO_OFFSET else 0.0,
        )
    except DoesNotFit as error:
        raise Unsolved(f"{name} bulb", str(error), "change its radius, return radius or offset") from None


@dataclass(frozen=True)
class HeadLevels:
    """Levels round a bulb's lip.

    ``profile`` runs in metres along the ring from the left lip's tangent point to the right lip's; ``turn`` is
    the distance of its high point (outlet 'street') or low point (outlet 'pit'). ``centre`` is the bulb
    centre's level. ``broken`` names in words the rules that the proposal could not keep.
    """

    profile: Profile
    turn: float
    outlet: Literal["street", "pit"]
    centre: float
    broken: tuple[str, ...]


def _lip_end(q: Engine, street: str, side: Side, base: float) -> tuple[float, float]:
    """Level and grade (in the direction of the street, along the lip) where a straight lip meets the bulb."""
    width = lane_width(q, street, side)
    normal = parts.section(q, street).side(side).lane.grade
    profile = grade_line(q, street).profile
    stretch = 1.0 - float(chain_of(q, street).at([base]).curvatures[0]) * side_sign(side) * width
    return float(profile.level([base])[0] + normal * width), float(profile.grade([base], "before")[0]) / stretch


@query
def head_levels(q: Engine, street: str) -> HeadLevels:
    """A closed, kink-free grade line round the bulb.

    It leaves each straight lip at that lip's level and grade. Half way round it stands at the wanted radial
    fall below the centre, raised (or with a pit lowered) as far as the least kerb fall along the lip needs.
    """
    head, outline = require_head(q, street), head_outline(q, street)
    rules, name = parts.street_class(q, street), parts.street_name(q, street)
    total = outline.ring.total
    end = chain_of(q, street).total
    centre = float(crown_levels(q, street, [end])[0])
    (z0, m0), (z1, m1) = (
        _lip_end(q, street, "left", outline.base_left),
        _lip_end(q, street, "right", outline.base_right),
    )
    m1 = -m1
    if not np.isfinite(centre + z0 + z1 + m0 + m1):
        raise Unsolved(
            f"{name} bulb", "the street's grade line does not reach the bulb's centre", "lengthen the grade line"
        )
    rising = float(grade_line(q, street).profile.grade([end], "before")[0]) >= 0
    outlet: Literal["street", "pit"] = head.outlet if head.outlet != "auto" else ("street" if rising else "pit")
    turn = float(outline.ring.starts[1] + 0.5 * outline.ring.length[1])
    c = min(_ROUNDING, 0.3 * turn, 0.3 * (total - turn))
    za, zb = z0 + m0 * c / 2, z1 - m1 * c / 2
    run_a, run_b = turn - c / 2, total - c / 2 - turn
    radial = centre - head.fall * head.radius
    least = rules.least_kerb_fall
    if outlet == "street":
        level = max(radial, za + least * run_a, zb + least * run_b)
    else:
        level = min(radial, za - least * run_a, zb - least * run_b)
    broken = []
    fall = (centre - level) / head.radius
    if fall < rules.least_radial_fall * (1 - 1e-9):
        broken.append(
            f"radial fall of at least {rules.least_radial_fall:.1%}, since the kerb needs {least:.1%} along it"
        )
    if fall > rules.most_radial_fall * (1 + 1e-9):
        broken.append(f"radial fall of at most {rules.most_radial_fall:.1%}, since the kerb needs {least:.1%} along it")
    profile = Profile.of([0.0, c / 2, turn, total - c / 2, total], [z0, za, level, zb, z1], [0.0, c, c, c, 0.0])
    return HeadLevels(profile, turn, outlet, centre, tuple(broken))


def ring_normals(outline: BulbOutline, u: Floats) -> Floats:
    """Unit vectors (n, 2) outwards from the road at distances ``u`` along the ring."""
    h = outline.ring.at(u).headings
    return np.stack([-np.sin(h), np.cos(h)], axis=1)


def abeam(q: Engine, street: str, side: Side) -> float:
    """Distance along the ring of the place abeam the bulb's centre on one side, square to the street's end."""
    outline, head = head_outline(q, street), require_head(q, street)
    heading = float(chain_of(q, street).at([chain_of(q, street).total]).headings[0])
    wanted = heading + side_sign(side) * np.pi / 2
    first = outline.ring.xy[1] - outline.centre
    start = np.arctan2(first[1], first[0])
    turned = np.mod(start - wanted, 2 * np.pi)
    return float(np.clip(outline.ring.starts[1] + turned * head.radius, outline.ring.starts[1], outline.ring.starts[2]))
