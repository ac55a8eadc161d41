"""Results whose working out is long: done in pieces, which stay when the work is given up."""

from __future__ import annotations

from collections.abc import Generator
from typing import Generic, TypeVar

from humble_loop.engine.query import Engine

T = TypeVar("T")
Pieces = Generator[None, None, T]


class InPieces(Generic[T]):
    """Work that can be given up between two of its ``pieces`` and gone on with there when it is asked for again.

    A query that takes long gathers all that it needs and returns one of these; another asks for its ``result``. What is
    worked out may rest on nothing but what was gathered: pieces ask no queries.
    """

    def __init__(self, pieces: Pieces[T]) -> None:
        self._pieces = pieces
        self._made: list[T] = []
        self._failure: Exception | None = None

    def result(self, q: Engine) -> T:
        """What is worked out; raises Cancelled when the time that ``q`` is given is over, and what the work raised, each time."""
        while not self._made:
            if self._failure is not None:
                raise self._failure.with_traceback(None)
            q.breathe()
            try:
                next(self._pieces)
            except StopIteration as end:
                self._made.append(end.value)
            except Exception as failure:  # noqa: BLE001 - a generator that raised would end without a result
                self._failure = failure
        return self._made[0]
