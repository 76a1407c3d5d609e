"""Every command line of the guide is run, on stand-ins, and what the pages show is what is printed."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
sys.path.insert(0, str(ROOT / "docs"))

import guide  # noqa: E402


@pytest.mark.long
@pytest.mark.parametrize("page", [pytest.param(one, id=one.stem) for one in guide.pages()])
def test_every_command_of_a_page_works_and_prints_what_the_page_shows(page: Path) -> None:
    wrong = [told for ran in guide.run(page) if (told := guide.differs(ran))]
    assert not wrong, "\n\n".join(wrong)


def test_every_command_of_every_page_is_a_right_call() -> None:
    count = 0
    for page in guide.pages():
        for block in guide.blocks(page.read_text()):
            for command in block.commands:
                guide.parse(command)
                count += 1
    assert count > 150


def test_a_page_that_shows_something_else_is_noticed() -> None:
    ran = guide.Ran("wexicon x", 0, (0,), ["power   14 dBm", "conforms; 3 exchanges in 1.2 s"], [], 1, True)
    assert "does not show" in guide.differs(ran)
    assert not guide.differs(ran._replace(shown=["power 14 dBm", "conforms; 5 exchanges in 900 ms"]))
    assert "the page shows" in guide.differs(ran._replace(shown=["power 12 dBm", "..."]))
    assert "status 1" in guide.differs(ran._replace(status=1))
