"""Tables as CSV (RFC 4180).

The rule: no spreadsheet takes a cell for a formula, whatever its separator is, and no cell has control characters. Headings
are cells.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence

from wexicon.core.text import visible


def csv_text(columns: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """A table with its headings."""
    made = io.StringIO()
    writer = csv.writer(made)
    for row in (columns, *rows):
        writer.writerow([inert(cell) for cell in row])
    return made.getvalue()


def inert(cell: str) -> str:
    """A cell that is no formula."""
    text = visible(cell)
    if re.fullmatch(r"-?\d+(?:[.,]\d+)?", text):
        return text
    # A quote too may end where another separator is taken for one.
    return re.sub(r"(^|[;,\t|])([\s\"]*)(?=[=+@\-])", r"\1\2'", text)
