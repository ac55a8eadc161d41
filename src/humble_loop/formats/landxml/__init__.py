"""LandXML 1.2: surfaces, alignments with profiles and cross sections, points, breaklines, kerb lines and parcels in; the site out."""

from humble_loop.formats.landxml.reading import read_landxml
from humble_loop.formats.landxml.sections import DESIGN
from humble_loop.formats.landxml.writing import write_landxml

__all__ = ["DESIGN", "read_landxml", "write_landxml"]
