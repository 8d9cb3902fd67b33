"""What is in the wheel and in the source archive, and what an index page shows."""

from __future__ import annotations

import re
import subprocess
import sys
import tarfile
import zipfile
from email import message_from_string
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent


@pytest.fixture(scope="module")
def built(tmp_path_factory):
    folder = tmp_path_factory.mktemp("dist")
    command = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(folder), str(ROOT)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return folder


def test_the_wheel_has_all_of_the_package_and_nothing_else(built):
    (wheel,) = built.glob("*.whl")
    names = zipfile.ZipFile(wheel).namelist()
    packed = {name for name in names if ".dist-info/" not in name}
    tracked = subprocess.run(
        ["git", "ls-files", "--cached", "--others", "--exclude-standard", "src"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=True,
    ).stdout.split()
    assert packed == {name.removeprefix("src/") for name in tracked if (ROOT / name).exists()}
    assert any(name.endswith("licenses/LICENSE") for name in names)


def test_the_source_archive_has_no_pictures_and_no_ci(built):
    (archive,) = built.glob("*.tar.gz")
    with tarfile.open(archive) as opened:
        names = [name.partition("/")[2] for name in opened.getnames()]
    assert {"pyproject.toml", "README.md", "hatch_build.py", "docs/selection.md"} <= set(names)
    assert any(name.startswith("tests/") for name in names)
    assert not [n for n in names if n.endswith(".png") or n.startswith((".ci", ".github"))]


def test_an_index_page_has_whole_links_and_what_it_runs_on(built):
    (wheel,) = built.glob("*.whl")
    opened = zipfile.ZipFile(wheel)
    (folder,) = [name for name in opened.namelist() if name.endswith("/METADATA")]
    told = message_from_string(opened.read(folder).decode())
    links = re.findall(r"\]\(([^)]+)\)", told.get_payload())
    assert len(links) > 20 and all(link.startswith("https://") for link in links), links
    classifiers = told.get_all("Classifier")
    for version in ("3.11", "3.12", "3.13"):
        assert f"Programming Language :: Python :: {version}" in classifiers
    assert "Operating System :: POSIX" in classifiers
    labels = {line.partition(",")[0] for line in told.get_all("Project-URL")}
    assert {"Homepage", "Source", "Changelog", "Documentation"} <= labels
