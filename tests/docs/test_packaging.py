"""The wheel holds what the program needs, and names what is installed on request."""

from __future__ import annotations

import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]


@pytest.mark.long
def test_the_wheel_has_every_file_of_the_package_and_nothing_else(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--wheel-dir", str(tmp_path), str(ROOT)]
    subprocess.run(words, check=True, timeout=300)
    (wheel,) = tmp_path.glob("wexicon-1.*-py3-none-any.whl")
    with zipfile.ZipFile(wheel) as file:
        names = {name for name in file.namelist() if not name.split("/")[0].endswith(".dist-info")}
        about = {
            name: file.read(name).decode()
            for name in file.namelist()
            if name.endswith(("METADATA", "entry_points.txt"))
        }
    package = ROOT / "src" / "wexicon"
    own = {str(path.relative_to(package.parent)) for path in package.rglob("*") if path.is_file()}
    assert names == {name for name in own if "__pycache__" not in name}
    told = "\n".join(about.values())
    for extra in ("plots", "report", "postgresql", "all"):
        assert f"Provides-Extra: {extra}\n" in told
    assert "wexicon = wexicon.__main__:main" in told and "wexicon = wexicon.testing.plugin" in told
    assert "Requires-Python: >=3.11" in told
