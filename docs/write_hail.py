"""Writes into docs/hail.md all that `hail` may say with the lexicons that are shipped.

    python docs/write_hail.py

The rule: the table is made of the code that asks; tests/docs holds the page to that.
"""

from __future__ import annotations

from pathlib import Path

from wexicon.core.faults import Fault
from wexicon.files import shipped_folder
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.contact.identification import all_that_may_be_said

PAGE = Path(__file__).parent / "hail.md"
BEGIN, END = "<!-- hail -->\n", "<!-- /hail -->\n"


def page() -> str:
    """The page with the table as it is now."""
    lexicons = []
    for path in sorted(shipped_folder().glob("*.toml")):
        try:
            lexicons.append(find_lexicon(str(path)))
        except Fault as fault:
            raise SystemExit(str(fault)) from None
    rows = [
        f"| {when} | {' '.join(f'`{one}`' for one in says)} | {', '.join(names) or 'ITU-T V.250'} |"
        for when, says, names in all_that_may_be_said(lexicons)
    ]
    before, _, rest = PAGE.read_text().partition(BEGIN)
    after = rest.partition(END)[2]
    return before + BEGIN + "\n".join(["| when | says | of |", "|---|---|---|", *rows]) + "\n" + END + after


if __name__ == "__main__":
    PAGE.write_text(page())
