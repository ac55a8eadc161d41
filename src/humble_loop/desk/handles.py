"""The handles of the chosen street in plan and in its long section."""

from __future__ import annotations

import numpy as np

from humble_loop.desk.dragging import Handle, Place
from humble_loop.desk.session import Edit, Session
from humble_loop.formats.quantities import (
    NotAQuantity,
    parse_grade,
    parse_length,
    show_chainage,
    show_grade,
    show_length,
)
from humble_loop.geometry.arrays import Floats
from humble_loop.propose.grade import proposed_vips
from humble_loop.site import edits
from humble_loop.site.model import End, Side, Site
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved
from humble_loop.solve.head import head_of, head_outline
from humble_loop.solve.junction import ENDS, SIDES, Joint, joint, kerb_return
from humble_loop.solve.section import is_new
from humble_loop.solve.street import centreline, chain_of, grade_line
from humble_loop.solve.window import vip_window


def plan_handles(session: Session) -> list[Handle]:
    """Bends, corner radii and the bulb of the chosen street."""
    q, street = session.engine, session.chosen.street
    if not street or isinstance(q.attempt(centreline, street), Unsolved):
        return []
    found = [_bend(session, street, i) for i in range(len(parts.street_bends(q, street)))]
    if not is_new(q, street):
        return found
    for end in ENDS:
        if isinstance(q.attempt(joint, street, end), Joint):
            found += [h for c in SIDES if (h := _corner(session, street, end, c)) is not None]
    if head_of(q, street) is not None:
        found += _bulb(session, street)
    return found


def snap_to_street(q: Engine, place: Place, reach: float, without: str = "") -> tuple[str, Place, float] | None:
    """The nearest other centreline within ``reach`` metres: street id, its foot, and heading there."""
    best, nearest = None, reach
    for other in parts.street_ids(q):
        line = q.attempt(centreline, other)
        if other == without or isinstance(line, Unsolved):
            continue
        foot = line.chain.feet([place])
        if abs(float(foot.offsets[0])) < nearest and 1.0 < foot.chainages[0] < line.chain.total - 1.0:
            nearest = abs(float(foot.offsets[0]))
            frame = line.chain.at(foot.chainages)
            best = (other, (float(frame.points[0, 0]), float(frame.points[0, 1])), float(frame.headings[0]))
    return best


def _unit(session: Session) -> str:
    return session.site.settings.units


def _bend(session: Session, street: str, i: int) -> Handle:
    q = session.engine
    bends = parts.street_bends(q, street)
    name, old = parts.street_name(q, street), bends[i]
    start = np.array(old[:2])
    inner = 0 < i < len(bends) - 1
    direction = {"unit": np.array([1.0, 0.0])}

    def moved(place: Place) -> tuple[Edit, str]:
        at = np.array(place)
        if not inner:
            snap = snap_to_street(session.engine, place, 2.0, street)
            at = np.array(snap[1]) if snap else at
        d = at - start
        size = float(np.hypot(*d))
        if size > 1e-9:
            direction["unit"] = d / size
        words = f"{at[0]:.3f} E, {at[1]:.3f} N, moved {show_length(size, _unit(session), 2)}"
        return (lambda site: edits.move_bend(site, street, i, float(at[0]), float(at[1]))), words

    def typed(text: str) -> Edit:
        if text.lower().startswith("r") and inner:
            radius = parse_length(text[1:].lstrip(" ="), _unit(session))
            return lambda site: edits.set_bend(site, street, i, radius=radius)
        at = start + direction["unit"] * parse_length(text, _unit(session))
        return lambda site: edits.move_bend(site, street, i, float(at[0]), float(at[1]))

    def rule() -> str:
        line = session.engine.attempt(centreline, street)
        if isinstance(line, Unsolved):
            return line.message
        mine = next((p for p in line.problems if p.index == i), None)
        if mine is not None and mine.kind == "radius":
            return f"radius {mine.wanted:g} does not fit; the largest is {mine.largest:.2f}"
        return f"radius {old[2]:g}" if inner else ""

    asks = "a distance, or r and a radius" if inner else "a distance"
    return Handle(
        (old[0], old[1]), f"{name} bend {i + 1}", "square", moved, typed, asks, rule, session.chosen.bend == i
    )


def _corner(session: Session, street: str, end: End, corner: Side) -> Handle | None:
    q = session.engine
    made = q.attempt(kerb_return, street, end, corner)
    if isinstance(made, Unsolved):
        return None
    middle = made.arc.chain.points_at([0.5 * made.arc.length])[0]
    away = (middle - made.arc.centre) / made.arc.radius
    radius, half = made.arc.radius, 0.5 * made.arc.sweep
    # Between tangents that turn by 2h, the arc's middle moves by r (1 / cos h − 1).
    rate = 1.0 / max(np.cos(half), 0.1) - 1.0

    def edit_for(value: float) -> Edit:
        return lambda site: edits.set_corner(site, street, end, corner, radius=value)

    def moved(place: Place) -> tuple[Edit, str]:
        outwards = -float((np.array(place) - middle) @ away)
        value = max(0.5, round(radius + outwards / max(rate, 0.05), 2))
        return edit_for(
            value
        ), f"radius {show_length(value, _unit(session), 2)}, was {show_length(radius, _unit(session), 2)}"

    title = f"{parts.street_name(q, street)} {end} {corner} return"
    return Handle(
        (float(middle[0]), float(middle[1])),
        title,
        "round",
        moved,
        lambda text: edit_for(_positive(parse_length(text, _unit(session)))),
        "a radius",
    )


def _positive(value: float) -> float:
    if value <= 0:
        raise NotAQuantity("the radius must be more than zero")
    return value


def _bulb(session: Session, street: str) -> list[Handle]:
    q = session.engine
    outline, head = q.attempt(head_outline, street), head_of(q, street)
    if head is None:
        return []
    chain, name = chain_of(q, street), parts.street_name(q, street)
    heading = float(chain.at([chain.total]).headings[0])
    ahead, left = np.array([np.cos(heading), np.sin(heading)]), np.array([-np.sin(heading), np.cos(heading)])
    end = chain.points_at([chain.total])[0]
    centre = end + left * head.offset if isinstance(outline, Unsolved) else outline.centre
    unit = _unit(session)

    def rule() -> str:
        made = session.engine.attempt(head_outline, street)
        return made.message if isinstance(made, Unsolved) else f"lip {show_length(made.ring.total, unit, 2)} round"

    def radius_edit(value: float) -> Edit:
        return lambda site: edits.set_head(site, street, radius=value)

    def radius_moved(place: Place) -> tuple[Edit, str]:
        value = max(0.5, round(float(np.hypot(*(np.array(place) - centre))), 2))
        return radius_edit(value), f"radius {show_length(value, unit, 2)}, was {show_length(head.radius, unit, 2)}"

    def offset_edit(value: float) -> Edit:
        return lambda site: edits.set_head(site, street, offset=value)

    def offset_moved(place: Place) -> tuple[Edit, str]:
        value = round(float((np.array(place) - end) @ left), 2)
        return offset_edit(
            value
        ), f"offset {show_length(value, unit, 2)} to the left, was {show_length(head.offset, unit, 2)}"

    back = centre + ahead * head.radius
    return [
        Handle(
            _place(back),
            f"{name} bulb",
            "round",
            radius_moved,
            lambda t: radius_edit(_positive(parse_length(t, unit))),
            "a radius",
            rule,
        ),
        Handle(
            _place(centre + ahead * 0.35 * head.radius),
            f"{name} bulb offset",
            "round",
            offset_moved,
            lambda t: offset_edit(parse_length(t, unit)),
            "an offset to the left",
            rule,
        ),
    ]


def _place(p: Floats) -> Place:
    return (float(p[0]), float(p[1]))


def vip_handles(session: Session) -> list[Handle]:
    """VIPs of the chosen street in its long section: chainage and level."""
    q, street = session.engine, session.chosen.street
    if not street or not is_new(q, street):
        return []
    line = q.attempt(grade_line, street)
    if isinstance(line, Unsolved):
        return []
    return [_vip(session, street, i) for i in range(len(line.states))]


def _vip(session: Session, street: str, i: int) -> Handle:
    q = session.engine
    line = grade_line(q, street)
    state, s0, z0 = line.states[i], float(line.profile.chainages[i]), float(line.profile.levels[i])
    name, unit = parts.street_name(q, street), _unit(session)
    settings = session.site.settings
    kept = proposed_vips(q, street) if state == "proposed" else []
    index = sum(1 for st in line.states[:i] if st != "tied") if state == "proposed" else line.index[i]
    ends = (0, len(line.states) - 1)

    def edit_for(s: float | None, z: float) -> Edit:
        def edit(site: Site) -> Site:
            fresh = edits.set_vips(site, street, kept) if kept else site
            if index < 0:
                raise edits.EditError(f"{name}: this level is tied to the other street's lip; change it there")
            values: dict[str, float] = {"level": z}
            if s is not None and i not in ends:
                values["chainage"] = s
            return edits.set_vip(fresh, street, index, **values)

        return edit

    def moved(place: Place) -> tuple[Edit, str]:
        s, z = round(place[0], 2), round(place[1], 3)
        here = s if i not in ends else s0
        words = f"{show_chainage(here, settings.chainage_format, unit)}  level <b>{show_length(z, unit)}</b>  ({z - z0:+.3f})"
        return edit_for(s, z), words

    def typed(text: str) -> Edit:
        if text.endswith("%") or ":" in text:
            grade = parse_grade(text)

            def edit(site: Site) -> Site:
                fresh = edits.set_vips(site, street, kept) if kept else site
                if index < 0:
                    raise edits.EditError(f"{name}: this level is tied to the other street's lip; change it there")
                return edits.set_vip(fresh, street, index, grade=grade)

            return edit
        return edit_for(None, parse_length(text, unit))

    def rule() -> str:
        made = session.engine.attempt(grade_line, street)
        if isinstance(made, Unsolved):
            return made.message
        grades = made.profile.grades
        k = min(i, len(grades))
        before = show_grade(float(grades[k - 1])) if k > 0 else "–"
        after = show_grade(float(grades[k])) if k < len(grades) else "–"
        window = vip_window(session.engine, street, min(i, len(made.states) - 1))
        room = (
            f"; {show_length(window.low, unit)} to {show_length(window.high, unit)} keeps the grades"
            if window
            else "; no level keeps both grades"
        )
        return f"{before} in, {after} out{room}"

    return Handle(
        (s0, z0),
        f"{name} VIP {i + 1}",
        "square",
        moved,
        typed,
        "a level, or a grade as 2.5% or 1:40",
        rule,
        session.chosen.vip == i,
        state,
    )
