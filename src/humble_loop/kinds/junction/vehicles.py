"""Vehicles whose paths are checked in junctions: sizes typical of what residential streets have to let turn."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.swept import Body

_TYRE = 0.3  # metres by which the wheels' middles are nearer together than the body is wide


@dataclass(frozen=True)
class Vehicle:
    """A vehicle by its name; ``turning`` is the least radius (m) of the circle on which its outer front wheel runs."""

    key: str
    name: str
    body: Body
    turning: float

    @property
    def least_radius(self) -> float:
        """The least radius (m) on which its front axle's middle can be led.

        On a full lock all wheels turn about one place beside the rear axle: with the outer front wheel at r, that lies
        sqrt(r2 - wheelbase2) - half the track from the rear axle's middle.
        """
        rear = np.sqrt(self.turning**2 - self.body.wheelbase**2) - 0.5 * (self.body.width - _TYRE)
        return float(np.hypot(rear, self.body.wheelbase))


VEHICLES = (
    Vehicle("car", "car", Body(2.8, 0.9, 1.1, 1.9), 5.9),
    Vehicle("waste", "waste collection vehicle", Body(5.2, 1.5, 3.0, 2.5), 9.5),
    Vehicle("bus", "small bus", Body(4.9, 1.9, 2.0, 2.4), 8.8),
    Vehicle("fire", "fire appliance", Body(4.4, 1.5, 2.3, 2.5), 8.4),
)
