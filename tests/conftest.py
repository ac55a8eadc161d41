"""What tests share: reference cases, small grounds and small sites."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import hypothesis
import numpy as np
import pytest

import humble_loop.kinds  # noqa: F401 (lets the kinds stand)
from humble_loop.engine.query import Engine
from humble_loop.ground.build import build_surface
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend, Vip
from humble_loop.site.libraries import new_site
from humble_loop.site.library import SectionSide, Strip, TypicalSection
from humble_loop.site.model import Site
from tests import edits

# The same examples at every run, so that a check of a submission means the same everywhere; 'make search' looks for
# new ones, and many more.
SEARCHING = bool(os.environ.get("HUMBLE_LOOP_SEARCH"))
hypothesis.settings.register_profile("same-examples", derandomize=True)
hypothesis.settings.register_profile("search", print_blob=True)
hypothesis.settings.load_profile("search" if SEARCHING else "same-examples")

# A fault of ours must not pass for a thing that cannot be worked out.
Engine.strict = True


def examples(count: int) -> hypothesis.settings:
    """How many examples a property is tried on: ``count``, and twenty times as many when searching."""
    return hypothesis.settings(max_examples=count * (20 if SEARCHING else 1), deadline=None)


REFERENCE = Path(__file__).parent / "reference"


def reference(name: str) -> Any:
    """An independently worked case."""
    return json.loads((REFERENCE / f"{name}.json").read_text(encoding="utf-8"))


def plane_level(points: np.ndarray, a: float = -0.03, b: float = 0.02, c: float = 50.0) -> np.ndarray:
    """The level of a plane at points (n, 2+)."""
    return np.asarray(a * points[:, 0] + b * points[:, 1] + c)


def plane_ground(a: float = -0.03, b: float = 0.02, c: float = 50.0, size: float = 500.0, n: int = 900) -> Surface:
    """An irregular triangulation of a plane, from -size/2 to size/2."""
    rng = np.random.default_rng(7)
    p = rng.uniform(-size / 2, size / 2, (n, 2))
    corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * size / 2
    p = np.concatenate([corners, p])
    return build_surface(np.column_stack([p, plane_level(p, a, b, c)]))[0]


def rolling_ground(n: int = 2500, seed: int = 3) -> Surface:
    """Uneven ground from (-150, -150) to (400, 400)."""
    rng = np.random.default_rng(seed)
    p = rng.uniform(-150, 400, (n, 2))
    z = 40 - p[:, 0] / 40 + p[:, 1] / 35 + 1.5 * np.sin(p[:, 0] / 30)
    return build_surface(np.column_stack([p, z]))[0]


def lane_section(name: str, width: float, fall: float = 0.03) -> TypicalSection:
    """A section with a given lane and the shipped verge and path outside it."""
    rest = new_site().all(TypicalSection)[0].left.parts[1:]
    side = SectionSide(parts=(Strip(to="lip", width=width, grade=-fall), *rest))
    return TypicalSection(name=name, left=side, right=side)


def t_site(*, through_fall: float = 0.02) -> Site:
    """The T-junction of the reference case: through street 20 + 0.02 x, side street north from x = 100."""
    site = edits.set_section(new_site("T"), lane_section("side", 3.0))
    site = edits.set_section(site, lane_section("through", 3.5))
    site = edits.add_street(
        site,
        "Through",
        [Bend(easting=0, northing=0), Bend(easting=200, northing=0)],
        section="through",
        vips=(Vip(chainage=0, level=20), Vip(chainage=200, level=20 + 200 * through_fall)),
    )
    return edits.add_street(
        site,
        "Side",
        [Bend(easting=100, northing=0), Bend(easting=100, northing=60)],
        section="side",
        vips=(Vip(chainage=60, grade=0.01),),
    )


def court_site(ground: Surface | None = None) -> Site:
    """A new through street and a court with a bulb and lots, on rolling ground."""
    site = edits.add_ground(new_site("Court"), Ground(name="ground", surface=ground or rolling_ground()))
    site = edits.add_street(site, "Through", [Bend(easting=0, northing=0), Bend(easting=260, northing=20)])
    site = edits.add_street(
        site,
        "Court",
        [
            Bend(easting=100, northing=100 / 13),
            Bend(easting=110, northing=60, radius=60),
            Bend(easting=160, northing=120),
        ],
        section="access-place",
        street_class="access",
    )
    site = edits.set_head(site, "court")
    site = edits.add_lot_row(site, "court", "left")
    site = edits.add_lot_row(site, "court", "right", start=40)
    return edits.add_lot_row(site, "court", "head", frontage=14)


def with_ring(site: Site) -> Site:
    """Two streets more, A and B, of which each starts on the other: a ring of ties."""
    a = [Bend(easting=0, northing=0), Bend(easting=100, northing=0, radius=15), Bend(easting=100, northing=50)]
    b = [
        Bend(easting=50, northing=0),
        Bend(easting=50, northing=-40, radius=5),
        Bend(easting=0, northing=-40, radius=5),
        Bend(easting=0, northing=40),
    ]
    return edits.add_street(edits.add_street(site, "A", a), "B", b)


@pytest.fixture(scope="session")
def court() -> Site:
    """The court site; frozen, so tests may share it."""
    return court_site()


@pytest.fixture(scope="session")
def brickworks() -> Site:
    """The demo's first stage: an existing road, a street and a court with lots."""
    from humble_loop.demo import first_stage

    return first_stage()
