"""What other packages bring: found by entry point when a name is not known, and not before."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import built, clean, wexicon
from wexicon.core.registry import Registry

BROUGHT = '''
from wexicon.core.values import Kind

class Even(Kind, frozen=True, tag="even"):
    """An even number."""

    def check(self, value):
        if not isinstance(value, int) or value % 2:
            raise self.fault(value, "is not even")
        return value

    def decode(self, text):
        return self.check(int(text))

    def allowed(self):
        return "even numbers"

def shout(text):
    return text.upper() + "!"

def twice(value):
    return value * 2
'''
POINTS = """
[wexicon.kinds]
even = brought:Even
[wexicon.filters]
shout = brought:shout
[wexicon.functions]
twice = brought:twice
"""


@pytest.fixture
def site(tmp_path: Path) -> dict[str, str]:
    """An installed package that brings one of each."""
    folder = tmp_path / "site"
    info = folder / "brought-1.0.dist-info"
    info.mkdir(parents=True)
    (folder / "brought.py").write_text(BROUGHT)
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: brought\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(POINTS)
    return clean({"PYTHONPATH": str(folder)})


def test_a_package_brings_a_kind_a_filter_and_a_function(site: dict[str, str]) -> None:
    Path("own.toml").write_text(
        'format = 1\nextends = "lindle-l9"\n[about]\nfamily = "lindle-l9"\n[setting.address]\nvalue = { kind = "even" }\n'
    )
    Path("s.toml").write_text('format = 1\n[seat.m]\nlexicon = "own"\nsettings = { address = 42 }\n')
    assert "conforms" in built("rehearse", "s.toml", env=site).stdout
    Path("s.toml").write_text('format = 1\n[seat.m]\nlexicon = "own"\nsettings = { address = 43 }\n')
    assert "43 is not even\n    allowed: even numbers" in built("rehearse", "s.toml", env=site, status=2).stderr
    Path("d.wex").write_text('> @name={word|shout}\n> @name?\n< @name {now}\ncheck now == "HO!"\nkeep n = twice(21)\n')
    Path("d.wex").write_text("needs word\n" + Path("d.wex").read_text())
    assert "42" in built("rehearse", "d.wex", "word=ho", "-l", "lindle-l9", env=site).stdout
    # Without the package the same names are faults that say what there is.
    assert "no such kind of value: 'even'" in wexicon("rehearse", "s.toml", status=2).stderr
    told = wexicon("rehearse", "d.wex", "word=ho", "-l", "lindle-l9", status=2).stderr
    assert "shout is not a filter" in told and "uses twice, which is not a function" in told


def test_nothing_is_looked_for_while_all_names_are_known(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []
    monkeypatch.setattr(Registry, "find_more", staticmethod(lambda group: asked.append(group) or {"far": 2}))
    made = Registry("wexicon.things", {"near": 1})
    assert made["near"] == 1 and "near" in made and asked == []
    assert made["far"] == 2 and asked == ["wexicon.things"]
    with pytest.raises(KeyError):
        made["nowhere"]
    assert asked == ["wexicon.things"]  # once is enough
    made.add("own", 3)
    assert sorted(made) == ["far", "near", "own"] and len(made) == 3
