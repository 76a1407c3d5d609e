"""Traces listed, named, compared, drawn and exported."""

from __future__ import annotations

import csv
import json
import threading
import time
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pcapng import FileScanner
from pcapng.blocks import EnhancedPacket, InterfaceDescription

from tests.conftest import SAMPLE, virtual, wexicon
from wexicon.core.protocol.observations import Role
from wexicon.core.protocol.recorded import RecordedExchange
from wexicon.records.trace import FORMAT, Record, What, read_trace
from wexicon.records.trace_list import AHEAD, TAIL, DifferenceKind, compare, read_info
from wexicon.records.trace_plot import waits

RIG = '[unit.mast]\nstandin = "lindle-l9"\n[unit.relay]\nstandin = "lindle-l9"\nidentity = { serial = "L9-00611" }\n'


@pytest.fixture
def folder() -> Path:
    """Traces of two masts, the second of another name, and one that failed."""
    with virtual(RIG):
        wexicon("readout", "virtual://mast", "-l", "lindle-l9")
        wexicon("set", "virtual://relay", "name=quay", "-l", "lindle-l9", "--prove", "reading")
        wexicon("readout", "virtual://relay", "-l", "lindle-l9")
        wexicon("set", "virtual://mast", "name=mast", "-l", "tamsel-k6", "--operator", "nobody", status=3)
    from wexicon.files import state_folder

    return state_folder() / "traces"


def test_traces_are_listed_the_newest_first_and_named_by_unit_port_or_last(folder: Path) -> None:
    made = json.loads(wexicon("trace", "list", "--json").stdout)
    assert [(one["title"], one["unit"].partition(" ")[2], one["verdict"]) for one in made] == [
        ("set", "", "failed"),
        ("readout", "L9-00611", "read"),
        ("set", "L9-00611", "conforms"),
        ("readout", "L9-00417", "read"),
    ]
    assert not any(one["open"] for one in made) and all(one["seconds"] > 0 for one in made)
    assert wexicon("trace", "list", "--verdict", "failed").stdout.count(".jsonl") == 1
    assert wexicon("trace", "list", "--unit", "L9-00611", "--last", "1").stdout.count(".jsonl") == 1
    by_name = {name: wexicon("trace", "show", name).stdout for name in ("last", "L9-00611", "relay", "readout")}
    assert "quay" in by_name["L9-00611"] == by_name["relay"] == by_name["readout"] != by_name["last"]
    assert "there is no trace of nobody" in wexicon("trace", "show", "nobody", status=2).stderr


def test_a_trace_that_grows_or_was_cut_off_is_listed_and_read(folder: Path) -> None:
    path = next(folder.glob("*readout.jsonl"))
    whole = path.read_bytes()
    for size in (len(whole) - 7, len(whole) // 2):
        path.write_bytes(whole[:size])
        info = read_info(path)
        assert info and info.open and info.port
        records = list(read_trace(path))
        assert len(records) == whole[:size].count(b"\n")
    # A line in the middle that is none is a fault as before.
    path.write_bytes(whole.replace(b'"what":"heard"', b'"what":"hea', 1))
    assert "not a trace record" in wexicon("trace", "show", str(path), status=2).stderr


def test_the_end_of_a_large_trace_is_found_without_reading_all_of_it(tmp_path: Path) -> None:
    records = [Record(0.0, What.OPENED, format=FORMAT, link="x", rate=9600)]
    records += [Record(at / 10, What.HEARD, "x" * 60, role=Role.UNMATCHED) for at in range(5000)]
    records += [Record(500.0, What.FINISHED, "unit", name="l9 7", outcome="conforms"), Record(501.0, What.CLOSED)]
    path = tmp_path / "2026-03-02-080000-000000-mast-M2.jsonl"
    path.write_bytes(msgspec.json.Encoder().encode_lines(records))
    info = read_info(path)
    assert path.stat().st_size > 20 * TAIL and info
    assert (info.unit, info.verdict, info.seconds, info.open, info.title) == (
        "l9 7",
        "conforms",
        501.0,
        False,
        "mast-M2",
    )


def test_records_of_a_step_and_of_a_stretch_of_time_are_shown(folder: Path) -> None:
    path = str(sorted(folder.glob("*readout.jsonl"))[-1])
    read = [json.loads(text) for text in wexicon("trace", "show", path, "--step", "read", "--json").stdout.splitlines()]
    assert read[0]["text"] == "read" and any("name" in one.get("text", "") for one in read)
    steps = {one["text"] for one in read if one["what"] == "step"}
    assert steps == {"read"} and len(read) < len(wexicon("trace", "show", path).stdout.splitlines())
    some = wexicon("trace", "show", path, "--from", "100ms", "--to", "200ms", "--json").stdout.splitlines()
    assert some and all(0.1 <= json.loads(text)["at"] <= 0.2 for text in some)


def test_a_trace_is_followed_until_it_ends(folder: Path) -> None:
    path = sorted(folder.glob("*readout.jsonl"))[-1]
    whole = path.read_bytes()
    path.write_bytes(whole[: len(whole) // 2])

    def grow() -> None:
        with path.open("ab") as file:
            for at in range(len(whole) // 2, len(whole), 400):
                time.sleep(0.02)
                file.write(whole[at : at + 400])
                file.flush()

    thread = threading.Thread(target=grow)
    thread.start()
    followed = wexicon("trace", "show", str(path), "--follow").stdout
    thread.join()
    assert followed == wexicon("trace", "show", str(path)).stdout and followed.rstrip().endswith("closed")


# -- comparing --------------------------------------------------------------------------------------------------------------


def exchanges(count: int) -> list[RecordedExchange]:
    return [
        RecordedExchange(f"AT+R{at % 97}?", heard=[(0.01, f"+R{at % 97} {at}", "answer"), (0.02, "OK", "ok")])
        for at in range(count)
    ]


def test_one_byte_one_missing_exchange_and_one_slow_answer_are_found_among_ten_thousand() -> None:
    a, b = exchanges(10_000), exchanges(10_000)
    b[4000].heard[0] = (0.01, b[4000].heard[0][1].replace("+R", "+r"), "answer")
    b[8000].heard[1] = (2.5, "OK", "ok")
    del b[6000]
    made = compare(a, b, times=True)
    kinds = [(one.kind, one.first, one.second) for one in made.differences]
    assert kinds == [
        (DifferenceKind.HEARD, 4001, 4001),
        (DifferenceKind.ONLY_FIRST, 6001, 0),
        (DifferenceKind.TIME, 8001, 8000),
    ]
    assert made.same == 9_997 and made.differences[2].times == (0.02, 2.5)
    assert [one.kind for one in compare(a, b).differences] == [DifferenceKind.HEARD, DifferenceKind.ONLY_FIRST]


def test_another_order_and_another_line_are_told_as_such() -> None:
    a, b = exchanges(40), exchanges(40)
    b[10:12] = [b[11], b[10]]
    made = compare(a, b)
    assert [(one.kind, one.first, one.second) for one in made.differences] == [
        (DifferenceKind.ORDER, 11, 12),
        (DifferenceKind.ORDER, 12, 11),
    ]
    c = exchanges(40)
    c[20] = RecordedExchange("AT+X", heard=c[20].heard)
    made = compare(a, c)
    assert [(one.kind, one.a, one.b) for one in made.differences] == [(DifferenceKind.SAID, "AT+R20?", "AT+X")]


@given(st.lists(st.sampled_from("abcd"), max_size=60), st.lists(st.sampled_from("abcd"), max_size=60))
def test_every_exchange_of_both_traces_is_accounted_for_once(a: list[str], b: list[str]) -> None:
    made = compare([RecordedExchange(one) for one in a], [RecordedExchange(one) for one in b])
    both = sum(one.kind in (DifferenceKind.SAID, DifferenceKind.ORDER) for one in made.differences)
    first = sum(one.kind is DifferenceKind.ONLY_FIRST for one in made.differences)
    second = sum(one.kind is DifferenceKind.ONLY_SECOND for one in made.differences)
    order = sum(one.kind is DifferenceKind.ORDER for one in made.differences)
    assert made.same + both + first == len(a) and made.same + both + second == len(b)
    assert (not made.differences) == (a == b) and order <= min(len(a), len(b)) and AHEAD > 1


def test_two_traces_are_compared_with_the_first_difference_on_top(folder: Path) -> None:
    done = wexicon("trace", "compare", "L9-00417", "L9-00611", status=1).stdout
    lines = done.splitlines()
    at = next(at for at, text in enumerate(lines) if text.startswith("first difference"))
    mark = lines[at + 3].index("^")
    assert lines[at + 1].ljust(200)[mark] != lines[at + 2].ljust(200)[mark]
    assert lines[at + 1][5:mark] == lines[at + 2][5:mark]
    assert "heard differently" in done and "quay" in done and "L9-00417" in done
    same = wexicon("trace", "compare", "L9-00611", "L9-00611").stdout
    assert "0 differences" in same
    made = json.loads(wexicon("trace", "compare", "L9-00417", "L9-00611", "--json", status=1).stdout)
    assert made["same"] > 3 and made["differences"][0]["kind"] == "heard differently"


# -- drawn and exported -------------------------------------------------------------------------------------------------------


@pytest.mark.filterwarnings("ignore::DeprecationWarning:pcapng")
def test_packets_are_read_back_byte_for_byte_by_another_reader(folder: Path, tmp_path: Path) -> None:
    path = tmp_path / "t.pcapng"
    wexicon("trace", "export", "L9-00611", "-o", str(path))
    with path.open("rb") as file:
        blocks = list(FileScanner(file))
    (link,) = [one for one in blocks if isinstance(one, InterfaceDescription)]
    assert link.link_type == 147 and link.options["if_tsresol"] is not None
    packets = [one for one in blocks if isinstance(one, EnhancedPacket)]
    source = next(folder.glob("*L9*"), None) or sorted(folder.glob("*readout.jsonl"))[-1]
    records = [one for one in read_trace(source) if one.what in (What.SAID, What.HEARD)]
    assert len(packets) == len(records) > 5
    opened = next(iter(read_trace(source)))
    began, end = opened.wall, {"lf": b"\n", "crlf": b"\r\n"}[opened.end]
    assert began
    for packet, record in zip(packets, records, strict=True):
        assert packet.packet_data == record.content.encode() + (b"" if record.exact else end)
        flags = packet.options["epb_flags"]
        assert flags.inout == ("outbound" if record.what is What.SAID else "inbound")
        assert abs(packet.timestamp - (began.timestamp() + record.at)) < 2e-6


def test_a_table_holds_each_record_and_no_formula(folder: Path) -> None:
    wexicon("trace", "export", "last", "-o", "t.csv")
    rows = list(csv.DictReader(Path("t.csv").read_text().splitlines()))
    assert rows[0]["what"] == "opened" and rows[-1]["what"] == "closed"
    assert not any(cell[:1] in ("=", "+", "@", "-") for row in rows for cell in row.values() if cell)
    wexicon("trace", "export", "last", "-o", "t.txt")
    assert Path("t.txt").read_text() == wexicon("trace", "show", "last").stdout
    assert "already exists" in wexicon("trace", "export", "last", "-o", "t.txt", status=2).stderr
    assert "is none of .csv" in wexicon("trace", "export", "last", "-o", "t.doc", status=2).stderr


def test_a_figure_has_the_steps_and_the_waits(folder: Path) -> None:
    assert "wrote t.svg" in wexicon("trace", "plot", "L9-00611", "-o", "t.svg").stdout
    text = Path("t.svg").read_text()
    for one in ("identify", "read", "waiting for answers", "steps", "events", "rate"):
        assert f"<!-- {one} -->" in text, one
    # A module that sleeps: its states are lanes of their own.
    listened = ("listen", "saver", "--rig", str(SAMPLE / "estuary.toml"), "--for", "12m", "--ask", "--only", "none")
    wexicon(*listened, "--trace", "sleep.jsonl")
    wexicon("trace", "plot", "sleep.jsonl", "-o", "sleep.svg")
    drawn = Path("sleep.svg").read_text()
    assert all(f"<!-- {one} -->" in drawn for one in ("sleep", "asleep", "sleep awake", "link idle"))
    assert "asleep" not in text
    records: list[Any] = [
        Record(1.0, What.SAID, "AT"),
        Record(1.1, What.HEARD, "AT", role=Role.ECHO),
        Record(1.4, What.HEARD, "OK", role=Role.OK),
        Record(2.0, What.HEARD, "+EVENT", role=Role.EVENT, name="event"),
    ]
    assert waits(records) == [(1.0, 1.4)]


def test_a_trace_of_the_format_before_is_read() -> None:
    text = json.dumps({"at": 0.0, "what": "opened", "format": 2, "link": "x", "rate": 9600})
    Path("old.jsonl").write_text(text + '\n{"at":1.0,"what":"said","text":"AT"}\n')
    assert "> AT" in wexicon("trace", "show", "old.jsonl").stdout
    Path("new.jsonl").write_text(text.replace('"format": 2', '"format": 9') + "\n")
    assert "formats 1 to 3" in wexicon("trace", "show", "new.jsonl", status=2).stderr
    assert SAMPLE.is_dir()


def test_only_a_setting_or_only_what_failed_is_shown() -> None:
    sheet = 'format = 1\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { name = "quay", network = 6 }\n'
    Path("s.toml").write_text(sheet)
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        wexicon("provision", "s.toml", "virtual://mast", "--trace", "good.jsonl")
        # The module refuses a word that it does not have.
        Path("bad.wex").write_text("> @nam?\n")
        wexicon("run", "bad.wex", "virtual://mast", "-l", "lindle-l9", "--trace", "bad.jsonl", status=1)
        Path("s.toml").write_text(sheet.replace("quay", "pier"))
        wexicon("verify", "s.toml", "virtual://mast", "--trace", "differs.jsonl", status=1)
    told = wexicon("trace", "show", "good.jsonl", "--setting", "network").stdout
    assert "@net=6" in told and "network: changed" in told and "@name=" not in told and "name: changed" not in told
    assert wexicon("trace", "show", "good.jsonl", "--failed").stdout == ""
    bad = wexicon("trace", "show", "bad.jsonl", "--failed").stdout.splitlines()
    assert "> @nam?" in bad[0] and "< @err" in bad[1]
    differs = wexicon("trace", "show", "differs.jsonl", "--failed").stdout
    assert "name: differs" in differs and "network" not in differs


@pytest.mark.parametrize("suffix", ["csv", "pcapng"])
@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"wall": "0001-01-01T00:00:00Z"}, "a record has the time 1-01-01, which cannot be right"),
        ({"wall": "9999-12-31T23:59:59Z"}, "a record has the time 9999-12-31, which cannot be right"),
        ({"party": "x" * 70_000}, "not a trace record"),
    ],
)
def test_a_record_with_an_impossible_field_is_named_and_nothing_written(
    change: dict[str, str], why: str, suffix: str, tmp_path: Path
) -> None:
    opened = {"at": 0, "what": "opened", "format": 3, "wall": "2026-12-02T10:00:00Z", "rate": 9600, "frame": "8N1"}
    lines = [json.dumps(one) for one in ({**opened, **change}, {"at": 1e9, "what": "heard", "text": "OK"})]
    (tmp_path / "t.jsonl").write_text("\n".join(lines) + "\n")
    assert why in wexicon("trace", "export", "t.jsonl", "-o", f"o.{suffix}", status=2).stderr
    assert not list(tmp_path.glob("*o.*"))
