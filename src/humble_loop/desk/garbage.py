"""Python's search for objects that hold one another in circles, kept out of the way of the hand.

A full search visits every object there is: on a whole estate it takes half a second, whenever it happens to come. What
has been worked out is let go of without one, so once the window has caught up it is put aside; everything is searched when
another site is opened.
"""

from __future__ import annotations

import gc

from humble_loop.desk.window import MainWindow

_OFTEN, _SELDOM, _NEVER = 5_000, 20, 1_000_000  # new objects until the newest are searched, and so on


def attend(window: MainWindow) -> None:
    """Search when it is not felt, from now on."""
    gc.set_threshold(_OFTEN, _SELDOM, _NEVER)
    window.catching_up.done.connect(_put_aside)
    window.files.taken.connect(_search_everything)


def _put_aside() -> None:
    gc.collect(1)
    gc.freeze()


def _search_everything() -> None:
    gc.unfreeze()
    gc.collect()
