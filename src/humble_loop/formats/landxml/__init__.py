"""LandXML 1.2: surfaces, alignments with profiles, points, breaklines, kerb lines and parcels in; the site out."""

from humble_loop.formats.landxml.reading import read_landxml
from humble_loop.formats.landxml.writing import FINISHED, write_landxml

__all__ = ["FINISHED", "read_landxml", "write_landxml"]
