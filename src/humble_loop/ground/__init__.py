"""Triangulated surfaces: build, read out levels, drape lines, contour, intersect, measure volumes."""
