"""The command line: tables, probes, exit codes, one line for every complaint."""

import csv
import io
import json
import subprocess
import sys

import numpy as np
import pytest

from humble_loop import cli
from humble_loop.formats.site_file import load_site, save_site
from tests import edits
from tests.conftest import reference, t_site, with_ring


@pytest.fixture
def t_file(tmp_path):
    file = tmp_path / "t.hloop"
    save_site(t_site(), file)
    return file


def run(capsys, *arguments):
    code = cli.run([str(a) for a in arguments])
    out, err = capsys.readouterr()
    return code, out, err


def rows(text):
    return list(csv.DictReader(io.StringIO(text)))


def test_the_reference_junction_through_the_command_line(capsys, t_file):
    case = reference("t_junction")
    code, out, err = run(capsys, "report", t_file, "--table", "junctions")
    assert (code, err) == (0, "")
    (row,) = rows(out)
    assert float(row["side_throat_chainage"]) == pytest.approx(case["throat"]["side_chainage"], abs=1e-6)
    assert float(row["throat_level"]) == pytest.approx(case["throat"]["level"], abs=1e-6)
    _, out, _ = run(capsys, "report", t_file, "--table", "returns", "--format", "json")
    left = [r for r in json.loads(out) if r["corner"] == "left"]
    levels = case["returns"]["west"]["levels"]
    for r in left:
        assert r["level"] == pytest.approx(levels[f"{r['distance'] / r['length']:.3f}"], abs=1e-6)


@pytest.mark.parametrize("case", reference("centrelines"), ids=lambda c: c["name"])
def test_reference_centrelines_through_the_command_line(capsys, tmp_path, case):
    keys = ("easting", "northing", "radius", "transition_in", "transition_out")
    text = ",".join(keys) + "\n" + "\n".join(",".join(repr(float(p[k])) for k in keys) for p in case["points"])
    (tmp_path / "line.csv").write_text(text)
    assert run(capsys, "new", tmp_path / "a.hloop", "--from", tmp_path / "line.csv")[0] == 0
    _, out, _ = run(capsys, "report", tmp_path / "a.hloop", "--table", "centreline", "--of", "line", "--every", 25)
    got = {round(float(r["chainage"]), 5): r for r in rows(out)}
    for a in case["at"]:
        r = got[round(a["chainage"], 5)]
        assert float(r["easting"]) == pytest.approx(a["easting"], abs=1e-6)
        assert float(r["northing"]) == pytest.approx(a["northing"], abs=1e-6)
        assert float(r["bearing_deg"]) == pytest.approx(a["bearing_deg"], abs=1e-7)


@pytest.mark.parametrize("case", reference("bulbs"))
def test_reference_bulbs_through_the_command_line(capsys, tmp_path, case):
    w = case["half_width"]
    body = {
        "sections": [
            {
                "name": "s",
                "left": {"parts": [{"to": "lip", "width": w}]},
                "right": {"parts": [{"to": "lip", "width": w}]},
            }
        ],
        "streets": [
            {
                "name": "S",
                "section": "s",
                "bends": [{"easting": -80, "northing": 0}, {"easting": 0, "northing": 0}],
                "vips": [{"chainage": 0, "level": 5}, {"chainage": 80, "level": 6}],
                "head": {"radius": case["radius"], "return_radius": case["fillet"], "offset": case["offset"]},
            }
        ],
    }
    file = tmp_path / "site.json"
    file.write_text(json.dumps({"format": "humble-loop-site", "version": 1, "site": body}))
    code, out, _ = run(capsys, "report", file, "--table", "heads", "--format", "json")
    assert code == 0
    (row,) = json.loads(out)
    e = case["expect"]
    assert row["lip_length"] == pytest.approx(e["lip_length"], abs=1e-6)
    assert row["bulb_sweep_deg"] == pytest.approx(e["bulb_sweep"], abs=1e-7)
    assert (row["left_bulb_tangent_easting"], row["left_bulb_tangent_northing"]) == pytest.approx(
        e["left"]["bulb_tangent"], abs=1e-6
    )
    assert (row["right_straight_tangent_easting"], row["right_straight_tangent_northing"]) == pytest.approx(
        e["right"]["straight_tangent"], abs=1e-6
    )


def test_the_reference_grade_line_through_the_command_line(capsys, tmp_path):
    case = reference("grade_line")
    body = {
        "streets": [
            {
                "name": "G",
                "bends": [{"easting": 0, "northing": 0}, {"easting": 240, "northing": 0}],
                "vips": case["vips"],
            }
        ]
    }
    file = tmp_path / "site.json"
    file.write_text(json.dumps({"format": "humble-loop-site", "version": 1, "site": body}))
    _, out, _ = run(capsys, "report", file, "--table", "levels", "--every", 12)
    got = {float(r["chainage"]): r for r in rows(out)}
    for a in case["at"]:
        assert float(got[a["chainage"]]["crown"]) == pytest.approx(a["level"], abs=1e-9)
        assert float(got[a["chainage"]]["grade"]) == pytest.approx(a["grade"], abs=1e-12)


def test_a_new_site_is_solved_with_its_junctions(capsys, tmp_path):
    from humble_loop.demo import survey_files

    code, out, err = run(capsys, "new", tmp_path / "b.hloop", "--from", *survey_files(), "--longest-edge", 40)
    assert (code, err) == (0, "")
    assert "surface 'brickworks_points'" in out
    assert load_site(tmp_path / "b.hloop").current_ground == "brickworks-points"


def test_probe_tells_levels_and_trail(capsys, t_file):
    code, out, _ = run(capsys, "probe", t_file, "--at", "150,1.75", "--trail", "--format", "json")
    assert code == 0
    got = json.loads(out)
    # Through crown at 150 is 23; 3 % of 1.75 m down.
    assert got["finished"] == pytest.approx(23 - 0.0525, abs=1e-9)
    assert got["ground"] is None
    assert got["piece"] == "Through carriageway, left"
    assert got["trail"]["value"] == pytest.approx(got["finished"], abs=1e-9)
    _, out, _ = run(capsys, "probe", t_file, "--at", "150,3.5", "--trail")
    assert "Through left lip at 150.00 = 22.8950" in out
    assert "finished  22.8950 m\n" in out
    assert "[set] level set" in out


def test_check_exits_1_with_findings_and_0_without(capsys, tmp_path, t_file):
    code, out, _ = run(capsys, "check", t_file)
    assert "broken" in out.splitlines()[-1]
    assert code == (0 if out.splitlines()[-1].startswith("0 broken") else 1)
    flat = tmp_path / "flat.hloop"
    save_site(t_site(through_fall=0.001), flat)
    code, out, _ = run(capsys, "check", flat)
    assert code == 1
    assert "grade too flat" in out


@pytest.mark.parametrize("ending", ["xml", "dxf", "csv"])
def test_export_by_extension(capsys, tmp_path, t_file, ending):
    code, _out, _ = run(capsys, "export", t_file, "--to", tmp_path / f"out.{ending}")
    assert code == 0
    assert (tmp_path / f"out.{ending}").stat().st_size > 500


@pytest.mark.parametrize("ending", ["dxf", "xml"])
def test_an_export_by_several_processes_is_that_of_one(tmp_path, brickworks, ending):
    file = tmp_path / "site.hloop"
    save_site(brickworks, file)
    for processes in (1, 3):
        script = f"from humble_loop import cli; cli.processes_at_hand = lambda: {processes}; "
        script += f"cli.run(['export', {str(file)!r}, '--to', {str(tmp_path / f'{processes}.{ending}')!r}])"
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=120)
        assert (done.returncode, done.stderr) == (0, "")
    one, three = ((tmp_path / f"{n}.{ending}").read_text().split("\n") for n in (1, 3))
    differing = sum(a != b for a, b in zip(one, three, strict=True))
    assert differing < 20  # when it was written, by which run, and the order of a drawing's classes


def test_exported_set_out_is_the_table(capsys, tmp_path, t_file):
    run(capsys, "export", t_file, "--to", tmp_path / "out.csv")
    _, out, _ = run(capsys, "report", t_file, "--table", "setout")
    exported = rows((tmp_path / "out.csv").read_text())
    assert [r["level"] for r in exported] == [r["level"] for r in rows(out)]


def test_the_schema_is_json(capsys):
    code, out, _ = run(capsys, "schema")
    assert code == 0
    assert json.loads(out)["title"] == "Humble Loop site"


BAD = [
    ("report", "{t}", "--table", "bridges"),
    ("report", "{t}", "--table", "levels", "--of", "Nowhere"),
    ("report", "{t}", "--table", "levels"),
    ("report", "{t}", "--table", "levels", "--of", "Side", "--every", "-1"),
    ("report", "{t}", "--table", "levels", "--of", "Side", "--every", "x"),
    ("report", "nowhere.hloop", "--table", "levels"),
    ("probe", "{t}", "--at", "here"),
    ("probe", "{t}", "--at", "1,2,3"),
    ("probe", "{t}", "--at", "9999,9999", "--trail"),
    ("export", "{t}", "--to", "out.doc"),
    ("export", "{t}", "--to", "/nowhere/at/all/out.xml"),
    ("new", "x.hloop", "--from", "nothing.csv"),
    ("new", "/nowhere/at/all/x.hloop", "--from", "{csv}"),
    ("new", "x.hloop"),
    ("report",),
    ("frobnicate",),
    (),
]


@pytest.mark.parametrize("arguments", BAD, ids=lambda a: " ".join(a)[:40])
def test_every_complaint_is_one_line_and_exit_2(capsys, tmp_path, t_file, monkeypatch, arguments):
    monkeypatch.chdir(tmp_path)
    points = tmp_path / "points.csv"
    points.write_text("1,0,0,1,A\n2,9,0,1,A\n3,0,9,1,A\n")
    code, out, err = run(capsys, *(a.format(t=t_file, csv=points) for a in arguments))
    assert code == 2
    assert out == ""
    assert err.startswith("humble-loop: ")
    assert err.count("\n") == 1
    assert "Traceback" not in err


def test_a_ring_of_ties_is_named_on_the_command_line(capsys, tmp_path):
    from humble_loop.site.libraries import new_site

    site = with_ring(new_site())
    file = tmp_path / "ring.hloop"
    save_site(site, file)
    code, _, err = run(capsys, "report", file, "--table", "levels", "--of", "A")
    assert code == 2
    assert "→" in err
    code, out, _ = run(capsys, "check", file)
    assert code == 1
    assert "ring of ties" in out
    assert "Traceback" not in out


def test_a_degenerate_site_still_reports_everything_else(capsys, tmp_path):
    site = edits.set_head(t_site(), "side", radius=2.9)
    site = edits.set_corner(site, "side", "start", "left", radius=90)
    file = tmp_path / "d.hloop"
    save_site(site, file)
    for name in cli.tables():
        code, out, err = run(
            capsys, "report", file, "--table", name, *(["--of", "Through"] if name in ("centreline", "levels") else [])
        )
        assert (code, err) == (0, ""), name
        assert out


def test_a_closed_pipe_is_not_an_error(t_file):
    code = f"{sys.executable} -m humble_loop report {t_file} --table sections | head -1"
    done = subprocess.run(["bash", "-o", "pipefail", "-c", code], capture_output=True, text=True, timeout=60)
    assert done.returncode == 0
    assert done.stderr == ""


def test_full_precision_survives_the_csv(capsys, t_file):
    _, out, _ = run(capsys, "report", t_file, "--table", "returns")
    first = rows(out)[0]
    assert float(first["length"]) == pytest.approx(4 * np.pi, abs=1e-14)
