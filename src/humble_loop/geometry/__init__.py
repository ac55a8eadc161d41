"""Plane curves and parabolas: no word of streets.

Metres and radians. A *heading* is measured anticlockwise from east; curvature and offsets are positive
to the left. Bearings (clockwise from north) exist only where people read and write them.
"""
