"""Bends of a street from a file's elements: exactly where bends can say it, else told with how far off."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from humble_loop.formats.landxml.plan import Piece
from humble_loop.geometry.arrays import Floats, tangents
from humble_loop.geometry.bends import BendInput, chain_from_bends, tangent_lengths
from humble_loop.geometry.chain import Chain
from humble_loop.ground.surface import Problem
from humble_loop.kinds.street.model import Bend

_GAP = 0.001  # metres between two elements that count as meeting
_KINK = np.radians(1 / 60)  # an angle between two elements, of which one is curved, that counts as tangential
_MOST_TURN = 2 * np.pi / 3  # a turn beyond this is taken in parts, whose tangents meet nearby
_ARCS = 12  # arcs in place of a spiral that no bend has: within a millimetre of it on any street
_TOLD = 0.001  # metres by which a street may leave the file's line without a word


class _Turn(NamedTuple):
    """What becomes one bend: transition, arc and transition, any of them missing. Lengths in metres."""

    curvature: float
    transition_in: float
    arc: float
    transition_out: float

    @property
    def turn(self) -> float:
        """Deflection in radians, without its sign."""
        return abs(self.curvature) * (self.arc + 0.5 * (self.transition_in + self.transition_out))


def bends_of(pieces: Sequence[Piece], name: str) -> tuple[list[Bend], list[Problem]]:
    """Bends (at least two) that run as ``pieces`` do, and what was altered on the way, each with its place."""
    laid = _Laid(name)
    for p in pieces:
        if p.note:
            laid.tell(p.note, p.start)
    groups = _groups(pieces)
    laid.corner(pieces[0].start)
    for before, group in zip([None, *groups[:-1]], groups, strict=True):
        if before is not None:
            laid.join(before[-1], group[0])
        if not group[0].straight:
            laid.curve(group)
    laid.corner(pieces[-1].end)
    laid.compare(pieces)
    return [Bend(**b._asdict()) for b in laid.bends], laid.problems


class _Laid:
    """The bends so far, and what was altered."""

    def __init__(self, name: str) -> None:
        self._name = name
        self.bends: list[BendInput] = []
        self.problems: list[Problem] = []

    def tell(self, words: str, at: Floats) -> None:
        self.problems.append(Problem("altered alignment", f"'{self._name}': {words}", float(at[0]), float(at[1])))

    def corner(self, p: Floats) -> None:
        last = self.bends[-1] if self.bends else None
        if last is None or last.radius > 0 or np.hypot(p[0] - last.easting, p[1] - last.northing) > 1e-6:
            self.bends.append(BendInput(float(p[0]), float(p[1])))

    def join(self, a: Piece, b: Piece) -> None:
        """Go from the end of one element to the start of the next: by a corner wherever they do not run on smoothly."""
        gap, kink = _between(a, b)
        if gap > _GAP:
            self.tell(f"a gap of {gap:.3f} m between a {a.words} and a {b.words} is closed by a straight", a.end)
        elif not (a.straight and b.straight):
            if abs(kink) <= _KINK:
                return
            self.tell(
                f"a {a.words} and a {b.words} meet at an angle of {np.degrees(abs(kink)):.3f} degrees,"
                " which is kept as a corner",
                b.start,
            )
        self.corner(a.end)
        self.corner(b.start)

    def curve(self, group: Sequence[Piece]) -> None:
        """Lay a curve with the transitions beside it, or a spiral, from where the file starts it."""
        at, heading = group[0].start, group[0].heading
        whole = _as_turn(group)
        if whole is None or (whole.arc == 0.0 and whole.turn > _MOST_TURN):
            for p in group:
                self._row(p)
            return
        radius, sign = 1.0 / abs(whole.curvature), np.sign(whole.curvature)
        for turn in _parts(whole):
            t_in, t_out = tangent_lengths(radius, turn.transition_in, turn.transition_out, turn.turn)
            point = at + t_in * _along(heading)
            self._bend(point, radius, turn.transition_in, turn.transition_out)
            heading += sign * turn.turn
            at = point + t_out * _along(heading)

    def _row(self, piece: Piece) -> None:
        """Lay a spiral that is no bend's transition as a row of arcs between tangents to it.

        Every leg of the row touches the spiral, the first and last at its ends, so that nothing adds up along it and
        no arc reaches into its neighbours.
        """
        if not piece.note:
            self.tell("a spiral that joins two arcs is taken as a row of arcs", piece.start)
        local = Chain.from_elements((0.0, 0.0), piece.heading, piece.runs)
        nodes = local.at(np.linspace(0.0, local.total, _ARCS + 1))
        u = tangents(nodes.headings)
        turn = np.diff(nodes.headings)
        step = np.diff(nodes.points, axis=0)
        sine = np.where(np.abs(turn) > 1e-9, np.sin(turn), np.inf)
        into = (step[:, 0] * u[1:, 1] - step[:, 1] * u[1:, 0]) / sine
        out = (step[:, 1] * u[:-1, 0] - step[:, 0] * u[:-1, 1]) / sine
        for j in np.flatnonzero((into > 0) & (out > 0)):
            radius = float(min(into[j], out[j]) / np.tan(0.5 * abs(turn[j])))
            self._bend(piece.start + nodes.points[j] + into[j] * u[j], radius)

    def _bend(self, point: Floats, radius: float, transition_in: float = 0.0, transition_out: float = 0.0) -> None:
        self.bends.append(BendInput(float(point[0]), float(point[1]), radius, transition_in, transition_out))

    def compare(self, pieces: Sequence[Piece]) -> None:
        """Tell where the street leaves the file's line most, if it does."""
        try:
            chain, _ = chain_from_bends(self.bends)
        except ValueError:
            return  # refused when the street is made, in its own words
        points = np.concatenate(
            [p.chain.points_at(np.linspace(0.0, p.length, int(np.clip(p.length, 2, 200)) + 1)) for p in pieces]
            + [np.array([p.end for p in pieces])]
        )
        off = np.abs(chain.feet(points).offsets)
        worst = int(np.argmax(off))
        if off[worst] > _TOLD:
            self.tell(f"the street lies up to {off[worst]:.3f} m off the file's line", points[worst])


def _along(heading: float) -> Floats:
    return np.array([np.cos(heading), np.sin(heading)])


def _between(a: Piece, b: Piece) -> tuple[float, float]:
    """Metres between two elements, and the angle (radians, left positive) by which the second turns off the first."""
    gap = float(np.hypot(*(b.start - a.end)))
    return gap, float(np.mod(b.heading - a.end_heading + np.pi, 2 * np.pi) - np.pi)


def _smooth(a: Piece, b: Piece) -> bool:
    gap, kink = _between(a, b)
    return gap <= _GAP and abs(kink) <= _KINK


def _groups(pieces: Sequence[Piece]) -> list[list[Piece]]:
    """Elements by what becomes one bend: a curve with a clothoid from the straight before it and to the straight after."""
    groups: list[list[Piece]] = []
    for p in pieces:
        group = groups[-1] if groups else []
        if group and not p.straight and _smooth(group[-1], p) and _as_turn([*group, p]) is not None:
            group.append(p)
        else:
            groups.append([p])
    return groups


def _as_turn(group: Sequence[Piece]) -> _Turn | None:
    """The one bend that ``group`` is, or None."""
    if any(len(p.runs) > 1 or p.straight for p in group):
        return None
    runs = [p.runs[0] for p in group]
    into = runs.pop(0) if runs[0].kind == "transition" and runs[0].k0 == 0.0 else None
    out = runs.pop() if runs and runs[-1].kind == "transition" and runs[-1].k1 == 0.0 else None
    if len(runs) > 1 or (runs and runs[0].kind != "arc"):
        return None
    curvatures = [k for k in (into and into.k1, runs[0].k0 if runs else None, out and out.k0) if k is not None]
    if np.ptp(curvatures) > 1e-6 * abs(curvatures[0]):
        return None
    return _Turn(
        runs[0].k0 if runs else curvatures[0],
        into.length if into else 0.0,
        runs[0].length if runs else 0.0,
        out.length if out else 0.0,
    )


def _parts(whole: _Turn) -> list[_Turn]:
    """A bend cut into bends none of which turns so far that its tangents meet far away."""
    parts = max(1, int(np.ceil(whole.turn / _MOST_TURN - 1e-9)))
    arcs = [_Turn(whole.curvature, 0.0, whole.arc / parts, 0.0)] * parts
    arcs[0] = arcs[0]._replace(transition_in=whole.transition_in)
    arcs[-1] = arcs[-1]._replace(transition_out=whole.transition_out)
    return arcs
