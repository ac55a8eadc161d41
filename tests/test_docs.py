"""The documents: their example is a real site, their links and commands exist, and the layers are held for real."""

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from humble_loop import cli
from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.nodes import all_joints
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import tables

ROOT = Path(__file__).parent.parent
DOCUMENTS = [ROOT / "README.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").glob("*.md"))]


def test_the_example_site_is_solved(tmp_path):
    text = (ROOT / "docs" / "site-file.md").read_text(encoding="utf-8")
    file = tmp_path / "site.json"
    file.write_text(re.search(r"```json\n(.*?)```", text, re.S)[1], encoding="utf-8")
    q = Engine(load_site(file))
    assert all_joints(q) == (("side", "start", "through"),)
    assert throat(q, "side", "start").level == pytest.approx(22 - 0.105)
    assert not [f for f in findings(q) if f.rule in ("cannot be worked out", "grade line too short")]


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda p: p.name)
def test_links_lead_somewhere(document):
    for target in re.findall(r"\]\(([^)#]+)\)", document.read_text(encoding="utf-8")):
        assert (document.parent / target).exists(), target


def test_every_picture_is_linked_from_the_readme():
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{picture.name}" in text, picture.name


def test_every_table_and_command_is_in_the_guide():
    guide = (ROOT / "docs" / "user-guide.md").read_text(encoding="utf-8")
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    for name in tables():
        assert f"`{name}`" in guide
    for command in ("new", "report", "probe", "check", "export"):
        assert f"humble-loop {command}" in readme
        assert command in cli.COMMANDS


def test_the_readme_promises_what_the_makefile_has():
    make = (ROOT / "Makefile").read_text(encoding="utf-8")
    for target in re.findall(r"make (\w+)", (ROOT / "README.md").read_text(encoding="utf-8")):
        assert re.search(rf"^{target}:", make, re.M), target


def lint(tmp_path, contract):
    config = tmp_path / ".importlinter"
    config.write_text(f"[importlinter]\nroot_package = humble_loop\ninclude_external_packages = True\n\n{contract}")
    tool = Path(sys.executable).parent / "lint-imports"
    return subprocess.run(
        [tool, "--config", str(config), "--no-cache"], cwd=tmp_path, capture_output=True, text=True
    ).returncode


def test_the_layer_contract_would_notice_a_violation(tmp_path):
    """The same kind of contract fails where an import does go the forbidden way, so it is not vacuous."""
    upside_down = "[importlinter:contract:1]\nname = upside down\ntype = layers\nlayers =\n  humble_loop.geometry\n  humble_loop.kinds\n"
    assert lint(tmp_path, upside_down) == 1
    qt = "[importlinter:contract:1]\nname = qt\ntype = forbidden\nsource_modules =\n  humble_loop.desk\nforbidden_modules =\n  PySide6\n"
    assert lint(tmp_path, qt) == 1


def test_the_core_runs_without_qt():
    code = "import sys; sys.modules['PySide6'] = None; sys.modules['pyqtgraph'] = None; import humble_loop.cli, humble_loop.demo, humble_loop.whole.trail"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stderr == ""


def test_starting_loads_nothing_that_is_seldom_wanted():
    """Each of these takes as long to load as all of the core; the fitting library did so unnoticed."""
    code = "import sys, humble_loop.cli; print([m for m in ('scipy', 'ezdxf', 'lxml', 'laspy', 'PySide6') if m in sys.modules])"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip() == "[]"


def test_the_lock_pins_every_dependency():
    lock = {
        re.split("==", line)[0].lower().replace("_", "-") for line in (ROOT / "requirements.lock").read_text().split()
    }
    project = (ROOT / "pyproject.toml").read_text(encoding="utf-8")
    wanted = re.search(r"dependencies = \[(.*?)\n\]", project, re.S)[1]
    for name in re.findall(r'"([A-Za-z0-9_-]+)(?:\[[a-z]+\])?[<>=]', wanted):
        assert name.lower().replace("_", "-") in lock, name
    assert {"laspy", "lazrs"} <= lock  # packed point clouds need both


def test_libraries_are_plain_json():
    for file in (ROOT / "src" / "humble_loop" / "data" / "libraries").glob("*.json"):
        assert json.loads(file.read_text(encoding="utf-8"))
