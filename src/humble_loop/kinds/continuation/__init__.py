"""Continuations: where a street goes on as another, end to end."""

from humble_loop.kinds.continuation.kind import Continuations

__all__ = ["Continuations"]
