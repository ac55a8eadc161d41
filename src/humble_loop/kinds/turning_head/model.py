"""What the site keeps of a turning head, and its edits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from humble_loop.site.edits import EditError, changed, the
from humble_loop.site.model import Anchor, End, Length, Level, Model, Side, Site, Thing, Width, between

HeadKind = Literal["bulb", "hammerhead", "Y", "left arm", "right arm"]
Share = Annotated[float, between(0.005, 0.995)]  # of the way round a head's lip from the left
LEAST_APART = 0.01  # of the way round between two levels


class HeadVip(Model):
    """A vertical intersection point of a head's lip, at a ``share`` of the way round from the left; with ``follows`` its level is another line's,
    with a fall or a difference.
    """

    share: Share
    level: Level
    curve_length: Length = 4.0
    follows: Anchor | None = None


class HeadOutlet(Model):
    """Where water leaves a head at a ``share`` of the way round: by a ``pit``, or over a kerb that is down, to a ``draw``."""

    share: Share
    way: Literal["pit", "draw"] = "pit"


class TurningHead(Thing):
    """A turning head at the end of a street: its shape, its sizes, and where its water goes. What is None is proposed: for the design
    ``vehicle`` and from the street's section.

    ``end`` is the end as the street was drawn: when the street is reversed the head stays where it is. Left and right are seen looking
    towards the head. A 'bulb' has a ``radius`` about a centre ``offset`` to the left of the street's end; its returns have radii of
    their own, or begin so many metres before the centre (``approach_left``, ``approach_right``), or are alike; where it is ``sided`` the
    other lip runs straight on to it. The others have arms, ``arm_width`` between lips, so long from the centre and at ``arm_angle``
    (degrees) aside of straight ahead, with corners of radius ``corner``; the kerb of ``open_ends`` is down, for a driveway.

    Its lip stands ``fall`` below the centre at the ``turn`` and falls from there, or to it, by as little as a kerb may; or, where it has
    ``vips``, through these, with its water leaving at the ``outlets``. Without ``divisions`` its set-out follows the site's spacing.
    """

    collection: ClassVar[str] = "turning_heads"
    words: ClassVar[str] = "turning head"
    owned_by: ClassVar[str] = "streets"

    street: str
    end: End = "end"
    kind: HeadKind = "bulb"
    vehicle: str = "waste"
    radius: Width | None = 9.5
    return_radius: Width | None = 15.0
    return_left: Width | None = None
    return_right: Width | None = None
    approach_left: Width | None = None
    approach_right: Width | None = None
    sided: Literal["both", "left", "right"] = "both"
    offset: Annotated[float, between(-500.0, 500.0)] = 0.0
    left_arm: Width | None = None
    right_arm: Width | None = None
    arm_width: Width | None = None
    arm_angle: Annotated[float, between(30.0, 150.0)] | None = None
    corner: Width | None = None
    open_ends: tuple[Side, ...] = ()
    fall: Annotated[float, between(0.0, 1.0)] = 0.03
    outlet: Literal["auto", "street", "pit", "draw"] = "auto"
    turn: Share | None = None
    vips: tuple[HeadVip, ...] = ()
    outlets: tuple[HeadOutlet, ...] = ()
    divisions: int | None = Field(default=None, ge=1, le=200)

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id"):
            return {**data, "id": f"{data.get('street')}:{data.get('end', 'end')}"}
        return data

    @model_validator(mode="after")
    def _onwards(self) -> TurningHead:
        for a, b in zip(self.vips[:-1], self.vips[1:]):
            if b.share - a.share < LEAST_APART:
                raise ValueError(
                    f"levels of a head's lip must be further apart than {100 * a.share:.1f} % and {100 * b.share:.1f} % of the way round"
                )
        return self

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


PROPOSED: dict[str, Any] = {
    "radius": None,
    "return_radius": None,
    "return_left": None,
    "return_right": None,
    "approach_left": None,
    "approach_right": None,
    "left_arm": None,
    "right_arm": None,
    "arm_width": None,
    "arm_angle": None,
    "corner": None,
}
"""Every size as it is proposed."""


def set_head(site: Site, street: str, end: End = "end", **values: Any) -> Site:
    """Give a street a head at an end (as drawn), or change fields of the one it has there."""
    old = site.find(TurningHead, f"{street}:{end}") or TurningHead(street=street, end=end)
    return site.put(changed(old, **values))


def shape_head(site: Site, street: str, end: End, kind: HeadKind) -> Site:
    """Give a street a head of another shape, with the sizes that are proposed for it; its own levels do not fit that and go."""
    return set_head(
        site, street, end, kind=kind, sided="both", vips=(), outlets=(), turn=None, open_ends=(), **PROPOSED
    )


def remove_head(site: Site, street: str, end: End = "end") -> Site:
    """Take a turning head away."""
    return site.without(TurningHead, f"{street}:{end}")


def set_vips(site: Site, id: str, vips: Sequence[HeadVip]) -> Site:
    """Let a head's lip go through VIPs of its own, in order of how far round they stand."""
    return site.put(changed(the(site, TurningHead, id), vips=tuple(sorted(vips, key=lambda v: v.share))))


def set_vip(site: Site, id: str, index: int, **values: float) -> Site:
    """Change one of them."""
    vips = list(the(site, TurningHead, id).vips)
    if not 0 <= index < len(vips):
        raise EditError(f"the head's lip has no VIP {index + 1}")
    vips[index] = changed(vips[index], **values)
    return set_vips(site, id, vips)
