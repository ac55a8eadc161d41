"""What the site keeps of a lip's or a boundary's own levels, and how they are edited. Sides and chainages are those of the street as it was drawn."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, ClassVar

from pydantic import Field, model_validator

from humble_loop.kinds.street.holding import HeldPoint, put_apart
from humble_loop.kinds.street.model import Street
from humble_loop.site.edits import EditError, changed, free_id, made, the
from humble_loop.site.model import Anchor, Chainage, Length, Level, Model, Side, Site, between

POINTS = ("lip", "boundary")
_LINE = {"lip": "kerb line", "boundary": "boundary line"}


def line_words(point: str) -> str:
    """What the own levels of a section point are called: 'kerb line' for a lip's."""
    return _LINE.get(point, f"{point} line")


class KerbVip(Model):
    """A vertical intersection point of a kerb line. A ``locked`` one keeps its level whatever is proposed; one that ``follows`` another line is
    locked, and has its level from that.
    """

    chainage: Chainage
    level: Level
    curve_length: Length = 0.0
    locked: bool = False
    follows: Anchor | None = None

    @model_validator(mode="after")
    def _locked_if_it_follows(self) -> KerbVip:
        if self.follows is not None and not self.locked:
            raise ValueError(f"the VIP at chainage {self.chainage:g} follows another line, and so has to be locked")
        return self


class KerbLine(HeldPoint):
    """A stretch of a street's lip (or another section point: its ``point``) that has its own grade line: from its first VIP to its last.

    Over ``taper_in`` metres after its first VIP and ``taper_out`` before its last the lip comes to it from where the section
    would have it, and goes back there; nothing where it begins or ends at once. Proposals for it keep ``within``
    metres of what they are to be near.
    """

    collection: ClassVar[str] = "kerb_lines"
    words: ClassVar[str] = "kerb line"

    vips: tuple[KerbVip, ...] = Field(min_length=2)
    within: Annotated[float, between(0.001, 1.0)] = 0.02

    @model_validator(mode="after")
    def _onwards(self) -> KerbLine:
        for a, b in zip(self.vips[:-1], self.vips[1:], strict=True):
            if b.chainage <= a.chainage:
                raise ValueError(f"the VIPs of a kerb line must rise ({b.chainage:g} follows {a.chainage:g})")
        if self.taper_in + self.taper_out > self.finish - self.begin:
            raise ValueError(
                f"the tapers of a kerb line need {self.taper_in + self.taper_out:g} m of {self.finish - self.begin:g}"
            )
        return self

    @property
    def begin(self) -> float:
        """Chainage of its first VIP."""
        return self.vips[0].chainage

    @property
    def finish(self) -> float:
        """Chainage of its last VIP."""
        return self.vips[-1].chainage

    @property
    def span(self) -> tuple[float, float]:
        """From its first VIP to its last."""
        return self.begin, self.finish

    @property
    def called(self) -> str:
        """'kerb line' for a lip's own levels."""
        return line_words(self.point)


# Edits


def add_kerb_line(
    site: Site, street: str, side: Side, vips: Sequence[KerbVip], point: str = "lip", **tapers: float
) -> Site:
    """Give a street's lip or boundary its own grade line, from the first VIP to the last."""
    the(site, Street, street)
    id = free_id(site, KerbLine, f"{street} {side} {line_words(point)}")
    return put_apart(site, made(KerbLine, id=id, street=street, side=side, point=point, vips=tuple(vips), **tapers))


def set_kerb_line(site: Site, id: str, **values: Any) -> Site:
    """Change a kerb line's ``side``, ``vips`` or tapers."""
    return put_apart(site, changed(the(site, KerbLine, id), **values))


def set_kerb_vip(site: Site, id: str, index: int, **values: Any) -> Site:
    """Change a VIP's ``chainage``, ``level`` or ``curve_length``, lock or unlock it, or let it follow; a locked one stays."""
    vips = list(the(site, KerbLine, id).vips)
    _within(vips, index)
    if vips[index].follows is not None and "follows" not in values:
        raise EditError(f"the VIP at {vips[index].chainage:.2f} follows another line: set its level free first")
    if vips[index].locked and not {"locked", "follows"} & set(values):
        raise EditError(f"the VIP at {vips[index].chainage:.2f} is locked: unlock it first")
    vips[index] = changed(vips[index], **values)
    return set_kerb_line(site, id, vips=tuple(sorted(vips, key=lambda v: v.chainage)))


def add_kerb_vip(site: Site, id: str, chainage: float, level: float) -> Site:
    """Add a VIP between the first and the last."""
    line = the(site, KerbLine, id)
    if not line.begin < chainage < line.finish:
        raise EditError(f"a VIP stands between {line.begin:.2f} and {line.finish:.2f}; move the end there instead")
    if any(abs(v.chainage - chainage) < BESIDE for v in line.vips):
        raise EditError(f"there is a VIP at {chainage:.2f} already; move that one")
    fresh = made(KerbVip, chainage=chainage, level=level)
    return set_kerb_line(site, id, vips=tuple(sorted((*line.vips, fresh), key=lambda v: v.chainage)))


def remove_kerb_vip(site: Site, id: str, index: int) -> Site:
    """Take a VIP out; two stay."""
    vips = list(the(site, KerbLine, id).vips)
    _within(vips, index)
    if len(vips) <= 2:
        raise EditError("a kerb line needs two VIPs; remove the kerb line instead")
    del vips[index]
    return set_kerb_line(site, id, vips=tuple(vips))


BESIDE = 0.5  # metres between two VIPs at least


def _within(vips: Sequence[KerbVip], index: int) -> None:
    if not 0 <= index < len(vips):
        raise EditError(f"the kerb line has no VIP {index + 1}")
