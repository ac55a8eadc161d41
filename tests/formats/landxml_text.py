"""LandXML written by hand for tests: files from a body, alignments from chain elements."""

import numpy as np

from humble_loop.geometry.chain import Chain

LANDXML = '<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units>{units}</Units>{body}</LandXML>'
METRIC, FEET = '<Metric linearUnit="meter"/>', '<Imperial linearUnit="USSurveyFoot"/>'


def write(path, text):
    path.write_text(text)
    return path


def landxml(tmp_path, body, units=METRIC):
    """A file with ``body`` in it."""
    return write(tmp_path / "a.xml", LANDXML.format(units=units, body=body))


def alignment_of(chain, name="A", law="clothoid"):
    """An alignment with every element of ``chain`` as it stands."""
    return (
        f'<Alignments><Alignment name="{name}" length="{chain.total!r}" staStart="0"><CoordGeom>'
        + "".join(_element(chain, j, law) for j in range(len(chain.length)))
        + "</CoordGeom></Alignment></Alignments>"
    )


def _element(chain, j, law):
    e = chain.elements[j]
    one = Chain.from_elements(chain.xy[j], chain.heading[j], [e])
    start, end = (f"{n!r} {east!r}" for east, n in one.points_at([0.0, e.length]).tolist())
    rot = "ccw" if e.k0 + e.k1 > 0 else "cw"
    if e.kind == "straight":
        return f"<Line><Start>{start}</Start><End>{end}</End></Line>"
    if e.kind == "arc":
        h = chain.heading[j]
        east, n = (chain.xy[j] + np.array([-np.sin(h), np.cos(h)]) / e.k0).tolist()
        return f'<Curve rot="{rot}"><Start>{start}</Start><Center>{n!r} {east!r}</Center><End>{end}</End></Curve>'
    r0, r1 = ("INF" if k == 0 else repr(float(abs(1 / k))) for k in (e.k0, e.k1))
    return (
        f'<Spiral rot="{rot}" spiType="{law}" length="{e.length!r}" radiusStart="{r0}" radiusEnd="{r1}">'
        f"<Start>{start}</Start><End>{end}</End></Spiral>"
    )
