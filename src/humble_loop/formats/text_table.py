"""Rows of text made as arrays: files with a few hundred thousand points take as long as their digits, not as their rows.

Every row of a table has the same width. A row's numbers are told in the same number of characters, filled up with zeros
behind the decimals, which leaves them as they are.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from humble_loop.geometry.arrays import Floats, Ints

Text = NDArray[np.uint8]  # characters of ASCII: (n, width)
HERE = "\0"  # where a column stands in the words of a row

_DIGITS = np.frombuffer(b"0123456789ABCDEF", dtype=np.uint8)
_SPACE, _ZERO = ord(" "), ord("0")


def decimals(values: Floats, places: int = 9) -> Text:
    """Numbers (n,) with at least ``places`` decimals: characters (n, width). Raises ValueError unless all are finite."""
    if not np.isfinite(values).all():
        raise ValueError("one of the numbers to be written is none")
    if not len(values):
        return np.empty((0, 0), dtype=np.uint8)
    width = max(len(f"{v:.{places}f}") for v in (values.min(), values.max()))
    text = (f"%-{width}.{places}f" * len(values)) % tuple(values.tolist())
    made = np.frombuffer(text.encode("ascii"), dtype=np.uint8).reshape(len(values), width)
    filled: Text = np.where(made == _SPACE, np.uint8(_ZERO), made)
    return filled


def hexadecimals(numbers: Ints, digits: int) -> Text:
    """Whole numbers (n,) from 0 on in base 16, in ``digits`` characters: (n, digits)."""
    told: Text = _DIGITS[(numbers[:, None] >> (4 * np.arange(digits)[::-1])) & 15]
    return told


def rows(words: str, *columns: Text) -> Text:
    """Rows (n, width) of the same ``words``, with the columns, each (n, its width), where ``HERE`` stands in them."""
    pieces = [np.frombuffer(piece.encode(), dtype=np.uint8) for piece in words.split(HERE)]
    n = len(columns[0])
    between = [np.broadcast_to(piece, (n, len(piece))) for piece in pieces]
    return np.concatenate([between[0], *(part for pair in zip(columns, between[1:]) for part in pair)], axis=1)
