"""Fall windows: the levels that a line may have for something else to fall to it as wanted."""

from humble_loop.kinds.fall_window.kind import FallWindows
from humble_loop.kinds.fall_window.model import FallWindow

__all__ = ["FallWindow", "FallWindows"]
