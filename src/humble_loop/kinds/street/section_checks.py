"""Rules of a street's sections: crossfalls, and changes along the street that have no room where they stand."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.street import section_edits as edits
from humble_loop.kinds.street.model import SectionChange
from humble_loop.kinds.street.overlay import OVERLAY_RULE, overlay_findings
from humble_loop.kinds.street.plan import chain_of, class_of, frame_of, name_of
from humble_loop.kinds.street.section import gaps, own_range
from humble_loop.kinds.street.side import (
    LEAST_STRIP,
    SideCourse,
    course,
    drawn_side,
    followed,
    sections_along,
    widened_at,
)
from humble_loop.kinds.street.widening import Followed
from humble_loop.lines.findings import Finding, Mend, point, share, too_high, too_low
from humble_loop.lines.line import ThingId
from humble_loop.site.model import SIDES

SECTION_RULES = ("crossfall", "section change", "widening", "batter finds no ground", OVERLAY_RULE)
_ROUNDING = 1e-6  # metres


def section_findings(q: Engine, street: str) -> list[Finding]:
    """Findings on the sections of a new street."""
    changes = frame_of(q, street).changes
    found = _crossfall(q, street) + overlay_findings(q, street) + _widenings(q, street)
    for k, c in enumerate(changes):
        words, remedy, mend = _room(q, street, changes, k)
        if words:
            at = point(chain_of(q, street).points_at([min(c.chainage, chain_of(q, street).total)])[0])
            part = f"{name_of(q, street)} at {c.chainage:.2f}"
            found.append(Finding("section change", ThingId("street", street), part, words, remedy, place=at, mend=mend))
    return found


def _widenings(q: Engine, street: str) -> list[Finding]:
    """Widenings whose line is not there, or does not run all along their stretch."""
    found = []
    for side in SIDES:
        for w in followed(q, street, side):
            words, remedy = w.wrong, w.remedy
            before = [
                v for v in followed(q, street, side) if v.point == w.point and v.begin < w.begin < v.finish - 1e-6
            ]
            if before and not words:
                words = f"it begins before another one of the {w.point} has ended, at {before[0].finish:.2f}"
                remedy = "end one where the other begins"
            inner = course(q, street, side)
            at = np.clip(0.5 * (w.begin + w.finish), 0.0, chain_of(q, street).total)
            if widened_at(inner, w.point) is None:
                words = f"the section has no strip that ends at '{w.point}' there"
                remedy = "remove it, or bring the point back"
            if not words and (narrow := _narrow(inner, w)) is not None:
                at, words, remedy = (
                    narrow,
                    f"its line leaves the strip beside the {w.point} no width",
                    "choose another line",
                )
            if words:
                part = f"{name_of(q, street)} {side} widening from {w.begin:.2f} to {w.finish:.2f}"
                place = point(chain_of(q, street).points_at([at])[0])
                chainage = float(at)
                of = ThingId("street", street)
                found.append(Finding("widening", of, part, words, remedy, chainage=chainage, place=place))
    return found


def _narrow(made: SideCourse, widening: Followed) -> float | None:
    """Where a widening leaves the strip that ends at its point next to nothing."""
    k = widened_at(made, widening.point)
    own = (made.at >= widening.begin) & (made.at <= widening.finish) & (made.widths[:, k or 0] <= 2 * LEAST_STRIP)
    return float(made.at[own][0]) if own.any() else None


def _room(q: Engine, street: str, changes: tuple[SectionChange, ...], k: int) -> tuple[str, str, Mend | None]:
    """Why a change of section does not fit where it stands, what helps, and the edit that does; '' where it fits."""
    total, c = chain_of(q, street).total, changes[k]
    end = c.chainage + c.taper
    following = changes[k + 1].chainage if k + 1 < len(changes) else total
    if c.chainage < 0.0 or c.chainage >= total:
        return f"it lies beyond the street, which ends at {total:.2f}", "move it onto the street, or remove it", None
    if end > following + _ROUNDING:
        what = "next change" if k + 1 < len(changes) else "end of the street"
        room = following - c.chainage
        words = f"its taper of {c.taper:g} m meets the {what} after {room:.2f} m"
        fits = int(room * 100) / 100
        mend = (
            Mend(f"Taper over {fits:g} m", lambda s: edits.set_change(s, street, k, taper=fits)) if fits > 0.1 else None
        )
        return words, "shorten its taper, or move one of them", mend
    for side in SIDES:
        low, high = own_range(q, street, side)
        for a, b in ((-_ROUNDING, low), *gaps(q, street, side), (high, total + _ROUNDING)):
            if b - a > 2 * _ROUNDING and c.chainage < b - _ROUNDING and end > a + _ROUNDING:
                words = f"it lies in a junction or head on the {side}, from {max(a, 0.0):.2f} to {min(b, total):.2f}"
                return words, f"move it beyond {b:.2f}" if b < total else f"end it before {a:.2f}", None
    return "", "", None


def _crossfall(q: Engine, street: str) -> list[Finding]:
    """Falls of the carriageway that the street's class does not allow."""
    rules, found = class_of(q, street), []
    for side in SIDES:
        for change, section in sections_along(q, street):
            for strip in section.side(drawn_side(q, street, side)).carriageway:
                # One that falls inwards turns the whole carriageway to the other side.
                fall = abs(strip.grade)
                low = too_low(fall, rules.least_crossfall)
                if strip.piece == "median" or not (low or too_high(fall, rules.most_crossfall)):
                    continue
                limit = rules.least_crossfall if low else rules.most_crossfall
                words = f"crossfall {share(fall)} is {'less' if low else 'more'} than {share(limit)}"
                s = change.chainage if change else 0.5 * chain_of(q, street).total
                at = point(chain_of(q, street).points_at([s])[0])
                part, remedy = f"{name_of(q, street)} {side}", f"change the fall of the {strip.piece} of {section.name}"
                found.append(
                    Finding("crossfall", ThingId("street", street), part, words, remedy, fall, limit, place=at)
                )
    return found
