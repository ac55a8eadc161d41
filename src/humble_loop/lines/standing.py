"""The kinds that stand, in order: what everything else loops over. ``humble_loop.kinds`` puts them here."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from humble_loop.lines.kind import Kind

_standing: tuple[Kind, ...] = ()
_by_key: dict[str, Kind] = {}


def kinds() -> tuple[Kind, ...]:
    """All kinds, earlier before later."""
    return _standing


def kind_of(key: str) -> Kind:
    """The kind with that key."""
    return _by_key[key]


def stand(*all_kinds: Kind) -> None:
    """Let these kinds, and no others, stand."""
    global _standing, _by_key
    _standing, _by_key = all_kinds, {k.key: k for k in all_kinds}


@contextmanager
def also(kind: Kind) -> Iterator[None]:
    """Let one more kind stand for a while."""
    before = _standing
    stand(*before, kind)
    try:
        yield
    finally:
        stand(*before)
