"""What libraries hold: street classes, kerb shapes and typical sections. The site keeps its own copies."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from humble_loop.site.model import Grade, Length, Model, Name, Named, Side, Size, Width, between


class StreetClass(Named):
    """The rules that a street is checked against. Typical values: check your authority's."""

    collection: ClassVar[str] = "street_classes"
    words: ClassVar[str] = "street class"

    least_grade: Length = 0.005
    most_grade: Size = 0.16
    least_crest_k: Length = 3.0
    least_sag_k: Length = 3.0
    least_curve_length: Length = 10.0
    sight_distance: Annotated[float, between(0.0, 1000.0)] = 35.0
    eye_height: Annotated[float, between(0.1, 5.0)] = 1.1
    target_height: Annotated[float, between(0.0, 5.0)] = 0.2
    least_crossfall: Length = 0.025
    most_crossfall: Length = 0.045
    least_radius: Length = 12.0
    return_radius: Size = 8.0
    least_return_fall: Length = 0.005
    most_return_fall: Size = 0.12
    most_throat_break: Size = 0.10
    approach_length: Length = 6.0
    most_approach_grade: Size = 0.08
    least_kerb_fall: Length = 0.005
    least_bulb_radius: Size = 8.5
    least_radial_fall: Length = 0.01
    most_radial_fall: Size = 0.05
    most_driveway_grade: Size = 0.20
    least_lot_fall: Length = 0.01
    cut_tolerance: Size = 0.6
    fill_tolerance: Size = 0.6


class KerbPoint(Model):
    """A point of a kerb shape: mm outwards from the lip and mm above it."""

    point: Name
    out: Annotated[float, between(0.0, 10_000.0)]
    up: Annotated[float, between(-10_000.0, 10_000.0)]


class KerbShape(Named):
    """The cross-section of a kerb, or of a drain, from its lip (0, 0) outwards; each point lies further out than the one before.

    ``lining`` is how thick (mm) it is lined or built, 0 where it is of the ground itself.
    """

    collection: ClassVar[str] = "kerb_shapes"
    words: ClassVar[str] = "kerb shape"

    points: tuple[KerbPoint, ...] = Field(min_length=1)
    lining: Annotated[float, between(0.0, 1000.0)] = 0.0

    @model_validator(mode="after")
    def _outwards(self) -> KerbShape:
        out = [0.0, *(p.out for p in self.points)]
        for a, b in zip(out[:-1], out[1:], strict=True):
            if b <= a:
                raise ValueError(f"kerb shape '{self.name}': each point must lie further out than the one before")
        names = ["lip", *(p.point for p in self.points)]
        if twice := next((n for n in names if names.count(n) > 1), ""):
            raise ValueError(f"kerb shape '{self.name}': two of its points are called '{twice}'; give one another name")
        return self


WIDEST_STRIP = 60.0  # metres: no piece of a street is wider
Piece = Literal["median", "lane", "parking", "verge", "path", "buffer"]
Kerb = Literal["kerb"]
_PIECE_TO: dict[str, Piece] = {"lip": "lane", "path back": "path"}


class Strip(Model):
    """A strip of a section side ending at a named point: what it is, its width and its grade outwards (rising positive)."""

    to: str
    width: Annotated[Width, between(0.0, WIDEST_STRIP)]
    grade: Grade = 0.0
    piece: Piece = "verge"

    @model_validator(mode="before")
    @classmethod
    def _piece_by_its_end(cls, data: Any) -> Any:
        """Where it is not said what a strip is, the point at which it ends tells."""
        if isinstance(data, dict) and "piece" not in data and isinstance(to := data.get("to"), str):
            return {**data, "piece": _PIECE_TO.get(to, "verge")}
        return data


class KerbPart(Model):
    """A kerb in a section side, by the id of its shape."""

    kerb: str


Part = Strip | KerbPart


class ToeDrain(Model):
    """A drain along the toe of a side's cut, by the id of its shape, which runs from the boundary outwards.

    It stands where the ground beyond would shed water onto the road, over ``least_length`` metres or more; gaps shorter than
    ``least_gap`` are closed. At its ends it rises out over ``taper`` metres. Its invert is to fall by ``least_fall``.
    """

    shape: str
    least_length: Size = 12.0
    least_gap: Length = 8.0
    taper: Annotated[float, between(0.1, 50.0)] = 2.5
    least_fall: Length = 0.005


class Benches(Model):
    """Benches in a batter: one after every ``every`` metres of height, ``width`` metres wide, rising (in fill falling) by ``grade``."""

    every: Annotated[float, between(0.5, 100.0)] = 4.0
    width: Annotated[float, between(0.1, 50.0)] = 2.0
    grade: Annotated[float, between(0.0, 0.5)] = 0.04


class SectionSide(Model):
    """One side of a typical section, from the crown outwards: strips up to the lip, and beyond it, if anything, others up
    to the boundary.

    Batter slopes are rises per metre: 1 on 2 is 0.5.
    """

    parts: tuple[Part, ...] = Field(min_length=1)
    cut_slope: Annotated[float, between(0.01, 1000.0)] = 0.5
    fill_slope: Annotated[float, between(0.01, 1000.0)] = 0.5
    drain: ToeDrain | None = None
    benches: Benches | None = None

    @model_validator(mode="after")
    def _in_order(self) -> SectionSide:
        ends = [p.to if isinstance(p, Strip) else None for p in self.parts]
        if ends.count("lip") != 1 or None in ends[: ends.index("lip")]:
            raise ValueError("a section side must begin with the strips from the crown to the lip, and have one lip")
        return self

    @property
    def carriageway(self) -> tuple[Strip, ...]:
        """The strips from the crown to the lip."""
        found: list[Strip] = []
        for p in self.parts:
            assert isinstance(p, Strip)
            found.append(p)
            if p.to == "lip":
                break
        return tuple(found)

    @property
    def outside(self) -> tuple[Part, ...]:
        """The pieces from the lip to the boundary."""
        return self.parts[len(self.carriageway) :]

    @property
    def width(self) -> float:
        """Metres from the crown to the lip."""
        return sum(p.width for p in self.carriageway)

    @property
    def crossfall(self) -> float:
        """Grade outwards of the straight from the crown to the lip."""
        return sum(p.width * p.grade for p in self.carriageway) / self.width


class Layer(Model):
    """A layer of pavement: what it is of, and its thickness in metres."""

    of: Name
    thickness: Annotated[float, between(0.001, 5.0)]


class Overlay(Model):
    """What an old pavement is given instead of a new one: it is trimmed by ``trim`` metres, and ``layers`` are laid, told from
    the top down. Over ``beside_kerb`` metres within the lips the pavement is new in its full depth.
    """

    trim: Annotated[float, between(0.0, 1.0)] = 0.03
    layers: tuple[Layer, ...] = Field(default=(Layer(of="asphalt", thickness=0.04),), min_length=1)
    beside_kerb: Annotated[float, between(0.0, 20.0)] = 0.6

    @property
    def thickness(self) -> float:
        """Metres of all layers together."""
        return sum(layer.thickness for layer in self.layers)


class TypicalSection(Named):
    """The section points of a street, left and right of the crown; ``layers`` of its pavement from the top down.

    With an ``overlay`` these are built beside the kerbs and where a street asks for it; elsewhere the old pavement stays.
    """

    collection: ClassVar[str] = "sections"
    words: ClassVar[str] = "typical section"

    left: SectionSide
    right: SectionSide
    apart: bool = False
    layers: tuple[Layer, ...] = ()
    overlay: Overlay | None = None

    @property
    def linked(self) -> bool:
        """Whether both sides are alike, and stay so."""
        return not self.apart and self.left == self.right

    def side(self, side: Side) -> SectionSide:
        """The left or right side."""
        return self.left if side == "left" else self.right


class RoundaboutPreset(Named):
    """The sizes that a roundabout has until others are chosen; metres, grades as ratios. Typical values: check your authority's.

    The inscribed circle has ``radius``, the carriageway round it ``width`` for ``lanes`` lanes. Within that lie an apron ``apron`` wide, whose edge
    stands ``apron_up`` and which rises by ``apron_rise`` inwards, a kerb that stands ``kerb_up`` (0: none), and what rises by ``mound`` within it. Legs
    come in on ``entry`` metres in ``entry_lanes`` round ``entry_radius`` and leave by ``exit`` in ``exit_lanes`` round ``exit_radius``, and widen
    to that over ``flare``. Their splitter islands are ``splitter`` long (0: none) and ``splitter_width`` wide, with an opening
    ``crossing_width`` wide from ``crossing`` metres before the circle (0: none). The carriageway falls outwards by ``fall`` where it is a cone. Nobody is to
    come in faster than ``most_entry_kmh``.
    """

    collection: ClassVar[str] = "roundabout_presets"
    words: ClassVar[str] = "roundabout preset"

    radius: Annotated[Width, between(3.0, 100.0)] = 16.0
    width: Annotated[Width, between(2.5, 30.0)] = 6.0
    lanes: int = Field(default=1, ge=1, le=3)
    apron: Length = 0.0
    apron_up: Annotated[float, between(0.0, 0.2)] = 0.04
    apron_rise: Annotated[float, between(-0.1, 0.2)] = 0.04
    kerb_up: Annotated[float, between(0.0, 0.5)] = 0.12
    mound: Annotated[float, between(-0.2, 0.5)] = 0.05
    entry: Width = 4.0
    exit: Width = 4.5
    entry_lanes: int = Field(default=1, ge=1, le=3)
    exit_lanes: int = Field(default=1, ge=1, le=3)
    entry_radius: Width = 18.0
    exit_radius: Width = 22.0
    flare: Width = 16.0
    splitter: Length = 0.0
    splitter_width: Width = 2.0
    crossing: Length = 0.0
    crossing_width: Width = 2.4
    fall: Annotated[float, between(0.0, 0.1)] = 0.025
    most_entry_kmh: Annotated[float, between(5.0, 120.0)] = 40.0


class UndersidePoint(Model):
    """A corner of a vehicle's underside on the level: metres ahead of its rear axle and above the ground."""

    ahead: Annotated[float, between(-5.0, 15.0)]
    up: Annotated[float, between(0.01, 2.0)]


class DriveVehicle(Named):
    """A vehicle that is rolled along driveways: its ``wheelbase``, ``wheel`` radius, ``width`` and ``track`` (between the middles of the wheels on both sides)
    in metres, and its ``underside`` from the rear to the front. Typical values, our own.
    """

    collection: ClassVar[str] = "vehicles"
    words: ClassVar[str] = "vehicle"

    wheelbase: Annotated[Width, between(1.0, 8.0)]
    wheel: Annotated[Width, between(0.1, 0.8)]
    width: Annotated[Width, between(0.8, 3.0)]
    track: Annotated[Width, between(0.5, 3.0)]
    underside: tuple[UndersidePoint, ...] = Field(min_length=2)

    @model_validator(mode="after")
    def _onwards(self) -> DriveVehicle:
        for a, b in zip(self.underside, self.underside[1:]):
            if b.ahead <= a.ahead:
                raise ValueError(
                    f"vehicle '{self.name}': its underside goes from the rear to the front, and {b.ahead:g} m follows {a.ahead:g} m"
                )
        if self.track > self.width:
            raise ValueError(
                f"vehicle '{self.name}': its track of {self.track:g} m is wider than itself, {self.width:g} m"
            )
        return self
