"""What is made of an older trace to be handed on shows no secret that today's lexicon knows; the trace stays as it is."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import wexicon
from wexicon.core.formats.lexicon import Lexicon
from wexicon.records.trace import What
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.contact.kept_traces import masked_records

OPENED = {"at": 0, "what": "opened", "format": 3, "wall": "2026-03-02T08:00:00Z", "rate": 57600, "frame": "8N1"}


def written(path: Path, *lines: tuple[str, str], unit: str = "") -> Path:
    """A trace as a version wrote it that knew no secret in these lines."""
    records = [OPENED, *({"at": at, "what": what, "text": text} for at, (what, text) in enumerate(lines, 1))]
    records += [{"at": 60, "what": "finished", "text": "unit", "name": unit, "outcome": "conforms"}] if unit else []
    path.write_text("".join(json.dumps(one) + "\n" for one in [*records, {"at": 61, "what": "closed"}]))
    return path


# A module of which the trace tells the family; lines that any of them may have.
KNOWN = (
    ("heard", "+LATE 58213"),
    ("said", "AT+PASS=58213"),
    ("heard", "OK"),
    ("said", "AT+LABEL?"),
    ("heard", "+LABEL mast 58213"),
)
UNKNOWN = (("said", 'AT+CMEE=1;+CPIN="58213"'), ("heard", "OK"), ("heard", "+NOTE 58213"))


@pytest.mark.parametrize(
    ("lines", "unit", "left"), [(KNOWN, "tamsel-k5 02.0000.5C0134", "AT+LABEL?"), (UNKNOWN, "", "AT+CMEE=1;")]
)
def test_every_file_that_is_made_of_it_is_masked(
    lines: tuple[tuple[str, str], ...], unit: str, left: str, tmp_path: Path
) -> None:
    trace = written(tmp_path / "old.jsonl", *lines, unit=unit)
    before = trace.read_bytes()
    for name in ("o.csv", "o.txt", "o.pcapng"):
        wexicon("trace", "export", "old.jsonl", "-o", name)
    wexicon("trace", "dialogue", "old.jsonl", "-o", "o.wex")
    wexicon("lexicon", "draft", "--from", "old.jsonl", "--family", "quay-x1", "-o", "o.toml")
    made = [path for path in tmp_path.glob("o.*") if b"58213" in path.read_bytes()]
    assert not made and len(list(tmp_path.glob("o.*"))) == 5
    told = wexicon("trace", "compare", "old.jsonl", str(written(tmp_path / "new.jsonl")), status=1).stdout
    assert "58213" not in told
    assert left in Path("o.csv").read_text() and "(secret)" in Path("o.txt").read_text()
    assert trace.read_bytes() == before


def test_a_payload_is_masked_by_the_lexicon_that_knows_its_form(tmp_path: Path) -> None:
    lexicon: Lexicon = find_lexicon("brisca-w1")
    trace = written(tmp_path / "old.jsonl", ("said", 'AT+FILE="key",13'), ("heard", "> "), ("said", "harbour-key-4"))
    texts = [one.text for one in masked_records(trace, lexicon) if one.what is What.SAID]
    assert "harbour-key-4" not in str(texts) and len(texts) == 2
