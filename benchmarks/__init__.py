"""Figures to hold, measured as ratios within one run wherever they can be: ``make bench``."""
