"""Whether two results are equal, and sealing results against change."""

from __future__ import annotations

import dataclasses
from functools import cache
from typing import Any, TypeVar, cast

import numpy as np

T = TypeVar("T")
_SEALED = "_sealed"
_PLAIN = frozenset({float, int, str, bool, type(None), np.float64})  # nothing in them to seal
_PLAIN_WORDS = frozenset({"float", "int", "str", "bool", "None", float, int, str, bool})  # as fields are declared


def same(a: Any, b: Any) -> bool:
    """Whether two results are equal in every value; arrays by content (NaN equals NaN), dataclasses by field."""
    if a is b:
        return True
    kind = type(a)
    if isinstance(a, np.ndarray) or isinstance(b, np.ndarray):
        if not (isinstance(a, np.ndarray) and isinstance(b, np.ndarray)) or a.shape != b.shape or a.dtype != b.dtype:
            return False
        equal = a == b
        return bool(np.all(equal)) or (a.dtype.kind == "f" and bool(np.all(equal | ((a != a) & (b != b)))))
    if kind is not type(b):
        return False
    if kind in _PLAIN:
        return bool(a == b) or bool(a != a and b != b)
    if isinstance(a, (tuple, list)):
        return len(a) == len(b) and all(map(same, a, b))
    if isinstance(a, dict):
        return a.keys() == b.keys() and all(same(v, b[k]) for k, v in a.items())
    if dataclasses.is_dataclass(kind):
        return all(same(getattr(a, name), getattr(b, name)) for name in _compared(kind))
    return bool(a == b)


def sealed(value: T) -> T:
    """The same value with every array in it (in tuples and dataclasses, at any depth) read-only."""
    if isinstance(value, np.ndarray):
        if value.flags.writeable:
            value.setflags(write=False)
    elif isinstance(value, tuple):
        for item in value:
            if type(item) not in _PLAIN:
                sealed(item)
    elif names := _field_names(cast(type, type(value))):
        marks = getattr(value, "__dict__", {})
        if _SEALED not in marks:
            for name in names:
                item = getattr(value, name)
                if type(item) not in _PLAIN:
                    sealed(item)
            marks[_SEALED] = True  # results rest on results: each is looked through once
    return value


@cache
def _compared(kind: type) -> tuple[str, ...]:
    """The fields of a dataclass by which it is compared."""
    return tuple(f.name for f in dataclasses.fields(kind) if f.compare)


@cache
def _field_names(kind: type) -> tuple[str, ...]:
    """The fields of a dataclass that may hold an array, at any depth; none of anything else."""
    fields = dataclasses.fields(kind) if dataclasses.is_dataclass(kind) else ()
    return tuple(f.name for f in fields if f.type not in _PLAIN_WORDS)
