"""Many units from one sheet: tables as spreadsheets save them, values filled in, units that must agree; faults with places."""

from __future__ import annotations

import contextlib
import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.core.faults import FileFault
from wexicon.core.formats.jobs import Job, dependency_cycle, jobs_of
from wexicon.core.formats.sheet_reading import Around, read_sheet
from wexicon.core.formats.units import UnitsTable, filling, read_units
from wexicon.work.contact.catalog import find_lexicon

MASTS = "mast,station,address\nM1,Cobble Stair,0011\nM2,Withy Point,0012\nM3,Old Ferry,0013\n"
SHEET = """format = 1
units = "m.csv"
common = { network = 6 }
[seat.relay]
lexicon = "lindle-l9"
settings = { name = "relay", address = 1 }
[seat.mast]
lexicon = "lindle-l9"
each = "row"
settings = { name = "mast {row.station} {number:02}", address = "{row.address}", peer = "{relay.address}" }
[agree]
same = ["network"]
different = ["address"]
"""


def secret(kind: str, name: str) -> str:
    if name.startswith("GONE"):
        raise ValueError(f"the environment variable {name} is not set")
    return {"PIN_M1": "4821", "PIN_M2": "7396", "PIN_M3": "x"}.get(name, "4821")


def jobs(sheet: str = SHEET, table: str = MASTS) -> list[Job]:
    def units(name: str, key: str) -> UnitsTable:
        return read_units(table.encode(), name, key)

    return jobs_of(read_sheet(sheet.encode(), "s.toml", Around(find_lexicon, secret, units)))


def told(sheet: str = SHEET, table: str = MASTS) -> str:
    with pytest.raises(FileFault) as fault:
        jobs(sheet, table)
    return str(fault.value)


def test_each_row_is_a_unit_with_its_own_values() -> None:
    relay, first, _, last = jobs()
    assert (relay.name, first.name, last.name) == ("relay", "mast M1", "mast M3")
    assert last.wanted == {"network": 6, "name": "mast Old Ferry 03", "address": 13, "peer": 1} and not last.deferred
    assert relay.wanted == {"network": 6, "name": "relay", "address": 1}


@pytest.mark.parametrize(
    ("data", "cells"),
    [
        (b"\xef\xbb\xbfkey;name\r\n007;a\r\n", {"key": "007", "name": "a"}),
        ("key\tname\n007\tQuai №3\n".encode("utf-16"), {"key": "007", "name": "Quai №3"}),
        (b'key,name\n7,"a, ""b"""\n', {"key": "7", "name": 'a, "b"'}),
        (b"key|name|\n7|x|\n\n , \n", {"key": "7", "name": "x"}),
    ],
)
def test_a_table_is_read_as_spreadsheets_save_it(data: bytes, cells: dict[str, str]) -> None:
    assert read_units(data, "t.csv").rows[0].cells == cells


CELLS = st.text(st.characters(min_codepoint=0x20, max_codepoint=0x2FF, blacklist_categories=("Cc",)), max_size=8)


@given(st.lists(st.lists(CELLS, min_size=2, max_size=2), min_size=1, max_size=6), st.sampled_from(",;\t|"))
def test_what_is_written_as_csv_reads_back_to_the_letter(rows: list[list[str]], separator: str) -> None:
    made = io.StringIO()
    writer = csv.writer(made, delimiter=separator)
    writer.writerow(["key", "one", "two"])
    writer.writerows([f"k{number}", *row] for number, row in enumerate(rows))
    table = read_units(made.getvalue().encode(), "t.csv")
    assert [[row.cells["one"], row.cells["two"]] for row in table.rows] == [
        [cell.strip() for cell in row] for row in rows
    ]


@pytest.mark.parametrize(
    ("table", "fault"),
    [
        ("mast,station\nM1,a\nM1,b\n", "m.csv:3: mast: 'M1' is there 2 times"),
        ("mast,station\n,a\n", "m.csv:2: mast: is empty: the row has no name"),
        ("mast,station\n", "there is no row"),
        ("mast,mast\nM1,a\n", "two columns are called mast"),
        ("mast,station\nM1,a,b\n", "has 3 cells, and there are 2 columns"),
        ("mast,station\nM1,\x07\n", "holds a control character"),
        (MASTS.replace("Old Ferry", ""), "m.csv:4: station: is empty, and name of seat mast is filled with it"),
        (MASTS.replace("0012", "70000"), "m.csv:3: address: address of seat mast: '70000' is out of range"),
        (MASTS.replace("0012", "0011"), "address must be different: mast M1 and mast M2 both have 11"),
        ("mast,place,address\nM1,a,1\n", "there is no column station"),
    ],
)
def test_faults_of_a_table_have_their_row_and_column(table: str, fault: str) -> None:
    assert fault in told(SHEET, table)


@pytest.mark.parametrize(
    ("old", "new", "fault"),
    [
        ("{row.address}", "{row.adress}", "there is no column adress; did you mean address?"),
        ("{relay.address}", "{quay.address}", "there is no seat quay"),
        ("{relay.address}", "{relay.adress}", "relay tells no adress; did you mean address?"),
        ("{relay.address}", "{mast.address}", "mast is several units: which"),
        ("{number:02}", "{number.x}", "cannot be filled in"),
        ("{number:02}", "{row.station|frist(2)}", "frist is not a filter; did you mean first?"),
        ('each = "row"', 'each = "line"', "'line' is not row"),
        ('units = "m.csv"\n', "", "there is no table of units"),
        ("address = 1 }", "address = 1, network = 7 }", "network must be the same: relay has 7, mast M1 has 6"),
    ],
)
def test_faults_of_a_sheet_of_many_units_are_told(old: str, new: str, fault: str) -> None:
    assert fault in told(SHEET.replace(old, new))


PAIR = """format = 1
[seat.left]
lexicon = "tamsel-k5"
settings = { name = "L-{own.address|digits|last(4)}", role = "leader", peer = "{right.address}" }
[seat.right]
lexicon = "tamsel-k5"
settings = { name = "right", peer = "{left.address}", role = "leader" }
"""


def test_what_only_a_module_knows_is_waited_for_and_a_ring_is_seen() -> None:
    left, right = jobs(PAIR)
    assert left.waits_for() == {"right"} and {job.name for job in dependency_cycle([left, right])} == {"left", "right"}
    with pytest.raises(KeyError):
        left.resolved({("own", "address"): "02.A15C.0013F7"})
    known = {("own", "address"): "02.A15C.0013F7", ("right", "address"): "02.A15C.00218E"}
    values = left.resolved(known)
    assert values["name"] == "L-13F7" and values["peer"] == "02:A1:5C:00:21:8E"
    after = PAIR.replace('peer = "{left.address}", ', "").replace(', role = "leader" }\n"', "")
    assert not list(dependency_cycle(jobs(after))) and [job.name for job in jobs(after)] == ["right", "left"]


def test_what_is_filled_in_later_needs_what_is_known_now() -> None:
    fault = told(PAIR.replace('role = "leader", peer', 'role = "follower", peer'))
    assert "peer of seat left needs role = leader, not follower" in fault


def test_braces_can_be_meant_as_they_are() -> None:
    one = filling("a{{b}} {number}")
    assert one and one.fill({("number", ""): "3"}) == "a{b} 3" and filling("plain") is None


@given(st.binary(max_size=200) | st.text(max_size=120).map(str.encode))
def test_anything_at_all_as_a_table_is_a_table_or_a_clear_fault(data: bytes) -> None:
    with contextlib.suppress(FileFault):
        assert read_units(data, "t.csv").rows


@given(st.text(alphabet="{}|.:() arownumbe02l'\\\n", max_size=30))
def test_anything_in_braces_is_filled_in_or_a_clear_fault(text: str) -> None:
    with contextlib.suppress(ValueError):
        filling(text)


def test_ten_thousand_rows_are_worked_out_in_a_moment() -> None:
    table = "mast,station,address\n" + "".join(f"M{n},s{n},{n}\n" for n in range(2, 10_002))
    found = jobs(SHEET, table)
    assert len(found) == 10_001 and found[-1].wanted["address"] == 10_001 and not list(dependency_cycle(found))


DRAWN = SHEET.replace('"{row.address}"', '"{drawn.address}"') + "[drawn.address]\nfirst = 17\nlast = 19\n"


def test_what_is_drawn_is_checked_from_the_first_to_the_last_and_units_may_have_no_table() -> None:
    made = jobs(DRAWN)
    assert made[1].series() == {"address"} and made[1].resolved({("drawn", "address"): "17"})["address"] == 17
    assert "drawn.address: has 2 numbers, and 3 units draw one" in told(DRAWN.replace("19", "18"))
    assert "address of seat mast: '70000'" in told(DRAWN.replace("19", "70000"))
    assert "there is no [drawn.adress]" in told(DRAWN.replace("{drawn.address}", "{drawn.adress}"))
    assert "last not less than first" in told(DRAWN.replace("19", "16"))
    bag = SHEET.replace('units = "m.csv"', "").replace('each = "row"', "count = 12").replace("{row.station} ", "")
    bag = bag.replace('"{row.address}"', '"{number}"').replace("address = 1 }", "address = 100 }")
    assert [job.name for job in jobs(bag)[1:3]] == ["mast 1", "mast 2"] and jobs(bag)[12].wanted["address"] == 12
    assert (filled := filling("{drawn.address|hex(4)}")) and filled.fill({("drawn", "address"): "255"}) == "00FF"


PLUGS = """format = 1
units = "m.csv"
[seat.plug]
lexicon = "tamsel-k5"
each = "row"
settings = { name = "plug {row.mast}", pin = { env = "PIN_{row.mast}" } }
"""


def test_each_row_may_have_a_secret_of_its_own_that_nothing_tells() -> None:
    first, second = jobs(PLUGS, MASTS.replace("M3,Old Ferry,0013\n", ""))
    assert (first.wanted["pin"], second.wanted["pin"]) == ("4821", "7396")
    assert "4821" not in first.secrets().mask("AT 4821")
    assert "7396" in first.secrets().mask("AT 7396") and "7396" not in second.secrets().mask("AT 7396")
    wrong = told(PLUGS)
    assert "m.csv:4: mast: pin of seat plug: the value" in wrong and "'x'" not in wrong
    assert "m.csv:2: pin of seat plug: the environment variable GONE_M1 is not set" in told(
        PLUGS.replace("PIN_", "GONE_")
    )
    assert "there is no column mist; did you mean mast" in told(PLUGS.replace("PIN_{row.mast}", "PIN_{row.mist}"))
    assert "is filled in from the row or the number" in told(PLUGS.replace("row.mast} ", "").replace("_{row", "_{own"))


def test_a_separator_is_counted_outside_of_quotes() -> None:
    rows = read_units(b'key;"a, b, c";d\n7;x;y\n', "t.csv", "key").rows
    assert rows[0].cells == {"key": "7", "a, b, c": "x", "d": "y"}


def test_the_last_none_of_a_text_is_empty() -> None:
    sheet = SHEET.replace("mast {row.station} {number:02}", "mast{row.station|last(0)}{number}")
    assert jobs(sheet)[1].wanted["name"] == "mast1"
