"""Run every benchmark and print a table; exit 1 when a figure is missed.

``python -m benchmarks [NAME ...]`` runs some of them: scale, edit, ground, drag, load, start. Bounds in seconds are for
a quiet hour, and stretched by how slow the machine is at the time (see ``benchmarks.yardstick``).
"""

from __future__ import annotations

import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np


@dataclass(frozen=True)
class Figure:
    """A measured figure and its bound, which is for a quiet hour; the machine was ``slowness`` times as slow."""

    name: str
    value: float
    bound: float
    unit: str
    at_most: bool = True
    slowness: float = 1.0

    @property
    def held(self) -> bool:
        """Whether the bound is kept."""
        return self.value <= self.bound * self.slowness if self.at_most else self.value >= self.bound / self.slowness

    def __str__(self) -> str:
        sign = "≤" if self.at_most else "≥"
        slow = f", the machine being {self.slowness:.2f} times as slow" if self.slowness > 1.0 else ""
        word = "ok  " if self.held else "MISS"
        return f"{word}  {self.name:<58} {self.value:>10.3f} {self.unit:<4} {sign} {self.bound:g}{slow}"


def timed(what: Callable[[], object]) -> float:
    """Seconds that ``what`` takes."""
    started = time.perf_counter()
    what()
    return time.perf_counter() - started


def _everything(q: object) -> None:
    from humble_loop.whole.findings import findings

    findings(q)  # type: ignore[arg-type]


def scale() -> list[Figure]:
    """Solving afresh over 1, 4 and 16 estates side by side."""
    from humble_loop.demo import repeated_site
    from humble_loop.engine.query import Engine

    sizes, seconds = [1, 4, 16], []
    _everything(Engine(repeated_site(1)))  # loads what is loaded once
    for n in sizes:
        site = repeated_site(n)
        seconds.append(min(timed(lambda site=site: _everything(Engine(site))) for _ in range(2)))
        print(f"      solving {n} x afresh: {seconds[-1]:.2f} s")
    exponent = float(np.polyfit(np.log(sizes), np.log(seconds), 1)[0])
    return [Figure("solving afresh grows as the site to the power", exponent, 1.1, "")]


def _edit_seconds(q: object, site: object, times: int = 7) -> dict[str, float]:
    from tests import edits

    from humble_loop.engine.query import Engine
    from humble_loop.site.model import Site

    assert isinstance(q, Engine)
    assert isinstance(site, Site)

    def vip(k: int) -> Site:
        return edits.set_vip(site, "ember-loop", 1, grade=-0.018 - 1e-4 * (k + 1))

    def bend(k: int) -> Site:
        return edits.set_bend(site, "kiln-court", 2, easting=4183.0 + 0.1 * k)

    def corner(k: int) -> Site:
        return edits.set_corner(site, "kiln-court", "start", "left", radius=7.1 + 0.1 * k)

    def pad(k: int) -> Site:
        return edits.set_pad(site, "Kiln Court H1", 40.0 + 0.1 * k)

    out = {}
    for name, edit in (("VIP", vip), ("bend", bend), ("return", corner), ("pad", pad)):
        runs = []
        for k in range(times):
            fresh = edit(k)
            runs.append(timed(lambda fresh=fresh: (q.use(fresh), _everything(q))))
        out[name] = statistics.median(runs)
    q.use(site)
    return out


def edit() -> list[Figure]:
    """A local edit, everything worked out again, on the demo and on 16 times as much."""
    from humble_loop.demo import repeated_site
    from humble_loop.engine.query import Engine

    cost = {}
    for n in (1, 16):
        site = repeated_site(n)
        q = Engine(site)
        afresh = timed(lambda q=q: _everything(q))
        cost[n] = _edit_seconds(q, site)
    found = []
    for name in cost[1]:
        print(f"      {name} edit: {1000 * cost[1][name]:.1f} ms on the demo, {1000 * cost[16][name]:.1f} ms on 16 x")
        found.append(Figure(f"{name} edit on 16 x, against on the demo", cost[16][name] / cost[1][name], 1.5, "x"))
        found.append(
            Figure(f"solving 16 x afresh, against a {name} edit in it", afresh / cost[16][name], 20.0, "x", False)
        )
    return found


def ground() -> list[Figure]:
    """A million survey points from a text file, in a process of its own so that its memory is known."""
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks", "--ground-worker"], capture_output=True, text=True, check=True
    )
    values = dict(line.split("=") for line in done.stdout.split())
    read, levels, contour, memory = (float(values[k]) for k in ("read", "levels", "contour", "memory"))
    return [
        Figure("a million points read and triangulated", read, 15.0, "s"),
        Figure("levels read out", levels, 1.0, "M/s", False),
        Figure("contours at 0.5 m", contour, 2.0, "s"),
        Figure("memory", memory, 1.5, "GB"),
    ]


def _ground_worker() -> None:
    from humble_loop.formats.bring_in import bring_in
    from humble_loop.ground.contour import contour_segments
    from humble_loop.kinds.ground import Ground
    from humble_loop.site.libraries import new_site

    rng = np.random.default_rng(1)
    p = rng.uniform(0, 1000, (1_000_000, 2)) + [300_000, 6_000_000]
    z = 50 + 5 * np.sin(p[:, 0] / 70) + 4 * np.cos(p[:, 1] / 60)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "survey.csv"
        np.savetxt(
            file,
            np.column_stack([np.arange(len(p)), p, z]),
            fmt=["%d", "%.3f", "%.3f", "%.3f"],
            delimiter=",",
            header="number,easting,northing,level",
            comments="",
        )
        site = new_site()
        box = []
        read = timed(lambda: box.append(bring_in(site, [file])[0]))
    surface = box[0].all(Ground)[0].surface
    at = rng.uniform(10, 990, (1_000_000, 2)) + [300_000, 6_000_000]
    surface.levels(at[:10])
    levels = 1.0 / min(timed(lambda: surface.levels(at)) for _ in range(3))
    contour = timed(lambda: contour_segments(surface, 0.5))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(f"read={read} levels={levels} contour={contour} memory={memory}")


def drag() -> list[Figure]:
    """From a mouse move to the frame in which the street under the hand has moved, in the real window."""
    from benchmarks.drag import demo_seconds, frame_seconds

    found = []
    made = [(times, *one) for times in (1, 64) for one in frame_seconds(times).items()]
    for times, name, (hand, lines, slow) in [
        *made,
        (1, "VIP of the street that is rebuilt", demo_seconds("rebuilt")),
        (1, "roundabout's middle", demo_seconds("roundabout")),
    ]:
        what = f"{name}, {times} ×" if times > 1 else name
        print(f"      {what}: what is under the hand {_typical(hand)}; its street's own lines {_typical(lines)}")
        late = 1000 * float(np.percentile(lines, 95))
        found.append(Figure(f"dragging a {what}: 95 % of its lines within", late, 33.0, "ms", slowness=slow))
    return found


def _typical(seconds: list[float]) -> str:
    return f"median {1000 * statistics.median(seconds):.1f} ms, 95 % within {1000 * float(np.percentile(seconds, 95)):.1f} ms"


def load() -> list[Figure]:
    """The window on 64 times the demo, and exports of 16 times."""
    from benchmarks.load import export_seconds, window_seconds

    bounds = {"first picture": 3.0, "pan": 0.033, "zoom": 0.033, "choosing": 0.033, "blocked after a pad edit": 0.033}
    found = []
    for name, (seconds, slow) in window_seconds(64).items():
        if name == "settled":
            print(f"      all of 64 x settled after {seconds:.1f} s")
            continue
        bound = 1000 * bounds.get(name, 0.002)
        found.append(Figure(f"64 x: {name}", 1000 * seconds, bound, "ms", slowness=slow))
    for ending, (seconds, slow) in export_seconds(16).items():
        found.append(Figure(f"16 x: exported as {ending}", seconds, 10.0, "s", slowness=slow))
    return found


def start() -> list[Figure]:
    """From the command to a usable demo window."""
    command = [sys.executable, "-m", "benchmarks.start"]
    subprocess.run(command, check=True, capture_output=True)
    runs = [
        float(subprocess.run(command, check=True, capture_output=True, text=True).stdout.split()[-1]) for _ in range(3)
    ]
    return [Figure("start to a usable demo window", statistics.median(runs), 3.0, "s")]


BENCHMARKS = {"scale": scale, "edit": edit, "ground": ground, "drag": drag, "load": load, "start": start}


def main(names: list[str]) -> int:
    """Run the named benchmarks, or all."""
    if names == ["--ground-worker"]:
        _ground_worker()
        return 0
    figures = []
    for name in names or BENCHMARKS:
        print(f"{name}: {BENCHMARKS[name].__doc__}")
        made = BENCHMARKS[name]()
        figures += made
        for f in made:
            print(f"  {f}", flush=True)
    missed = sum(not f.held for f in figures)
    print(f"{len(figures) - missed} held, {missed} missed")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
