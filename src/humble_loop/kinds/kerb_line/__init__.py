"""Kerb lines: a street's lip with a grade line of its own over a stretch."""

from humble_loop.kinds.kerb_line.kind import KerbLines

__all__ = ["KerbLines"]
