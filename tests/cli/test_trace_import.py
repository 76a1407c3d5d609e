"""`wexicon trace import`: captures of other tools become traces that everything works on."""

from __future__ import annotations

import json
import os
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.conftest import built, virtual, wexicon
from tests.waves import Drawn, as_csv, as_vcd, inverted
from wexicon.core.standards.waveform import Edge
from wexicon.core.tuning import Tuning
from wexicon.records.trace import What, read_trace

TALK = ((b"AT\r\n", b"OK\r\n"), (b"AT+LABEL?\r\n", b"+LABEL: quay 3\r\nOK\r\n"), (b"AT+MAST=4\r\n", b"ERROR\r\n"))
LINES = [("host", "AT"), ("module", "OK"), ("host", "AT+LABEL?"), ("module", "+LABEL: quay 3"), ("module", "OK")]
LINES += [("host", "AT+MAST=4"), ("module", "ERROR")]


def drawn() -> tuple[dict[str, list[Edge]], float]:
    """Two lines of a logic analyser: what the host says on D0, the module's answers on D1."""
    host, module = Drawn(Tuning(9600), 1, 0.02), Drawn(Tuning(9600), 2, 0.02)
    now = 0.01
    for said, heard in TALK:
        now = module.say(heard, host.say(said, now) + 0.01) + 0.05
    return {"D0": host.edges, "D1": module.edges}, module.until()


def lines_of(path: Path) -> list[tuple[str, str]]:
    who = {What.SAID: "host", What.HEARD: "module"}
    return [(who[one.what], one.text) for one in read_trace(path) if one.what in who]


@pytest.mark.parametrize("kind", ["vcd", "csv"])
def test_two_lines_of_a_logic_analyser(kind: str, tmp_path: Path) -> None:
    lines, end = drawn()
    file = tmp_path / f"quay.{kind}"
    file.write_text(as_vcd(lines, end) if kind == "vcd" else as_csv(lines, end))
    said = wexicon("trace", "import", str(file)).stdout
    assert "host     9600 8N1, measured 9596\nmodule   9600 8N1, measured 9604\n" in said
    assert "26 bytes from the host, 31 from the module\n" in said
    assert lines_of(tmp_path / "quay.jsonl") == LINES
    heard = [one for one in read_trace(tmp_path / "quay.jsonl") if one.what is What.HEARD]
    # From the end of the first character: 3 more, 10 ms between, the 3 of "OK\r", each of 1.04 ms.
    assert heard[0].at == pytest.approx(0.0163, abs=0.0002)


def test_lines_are_chosen_by_name_and_inverted_ones_are_told(tmp_path: Path) -> None:
    lines, end = drawn()
    clock = [(number * 1e-3, number % 2) for number in range(100)]
    file = tmp_path / "quay.vcd"
    file.write_text(as_vcd({"CLK": clock, "RXD": inverted(lines["D1"]), "TXD": inverted(lines["D0"])}, end))
    said = json.loads(wexicon("trace", "import", str(file), "--host", "TXD", "--module", "RXD", "--json").stdout)
    assert said["tunings"]["host"].endswith("inverted")
    assert lines_of(tmp_path / "quay.jsonl") == LINES


def test_a_wrong_frame_is_told_where_it_is(tmp_path: Path) -> None:
    host = Drawn(Tuning(9600))
    start = host.say(b"AT+LABEL?\r\n")
    host.edges += [(start, 0), (start + 12 * host.bit, 1)]
    host.say(b"\rAT+LABEL=quay 3 and the lamp\r\nAT+SAVE\r\n", start + 30.4 * host.bit)
    file = tmp_path / "quay.vcd"
    file.write_text(as_vcd({"D0": host.edges}, host.until()))
    assert "1 with a wrong frame" in wexicon("trace", "import", str(file)).stdout
    texts = [one.text for one in read_trace(tmp_path / "quay.jsonl") if one.text]
    assert "framing error: a byte of the host is not sure" in texts
    assert (
        texts.index("AT+LABEL?") < texts.index("framing error: a byte of the host is not sure") < texts.index("AT+SAVE")
    )


@pytest.mark.parametrize(
    "log",
    [
        "10:00:01.100 > AT\n10:00:01.130 < OK\n10:00:02.000 > AT+LABEL?\n10:00:02.020 < +LABEL: quay 3\n10:00:02.030 < OK\n"
        "10:00:04.000 > AT+MAST=4\n10:00:05.000 < ERROR\n",
        "[0.100] TX: AT\n[0.130] RX: OK\n[1.0] TX: AT+LABEL?\n[1.1] RX: +LABEL: quay 3\n[1.2] RX: OK\n"
        "[2.0] TX: AT+MAST=4\n[2.1] RX: ERROR\n",
        "AT\nOK\n\nAT+LABEL?\n+LABEL: quay 3\nOK\n\nAT+MAST=4\nERROR\n",
    ],
)
def test_a_text_log_with_and_without_times_and_marks(log: str, tmp_path: Path) -> None:
    file = tmp_path / "quay.log"
    file.write_text(log)
    wexicon("trace", "import", str(file))
    assert lines_of(tmp_path / "quay.jsonl") == LINES
    times = [one.at for one in read_trace(tmp_path / "quay.jsonl") if one.what is What.HEARD]
    if log.startswith("10:00"):
        assert times == pytest.approx([0.03, 0.92, 0.93, 3.9])


def test_raw_bytes_of_one_side(tmp_path: Path) -> None:
    file = tmp_path / "quay.bin"
    file.write_bytes(b"+MATE: quay\r\nOK\r\n")
    wexicon("trace", "import", str(file), "--raw", "module", "--rate", "1200", "-o", str(tmp_path / "t.jsonl"))
    heard = [one for one in read_trace(tmp_path / "t.jsonl") if one.what is What.HEARD]
    assert [one.text for one in heard] == ["+MATE: quay", "OK"]
    # 12 characters of 10 bits after the first.
    assert heard[0].at == pytest.approx(12 * 10 / 1200, abs=0.01)


def test_a_session_drawn_as_a_wave_is_read_as_it_was(tmp_path: Path) -> None:
    """A readout of a stand-in, as a logic analyser would have seen it: imported, it is the same exchange by exchange."""
    trace = tmp_path / "own.jsonl"
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        wexicon("readout", "virtual://mast", "-l", "lindle-l9", "--trace", str(trace))
        host, module, now = Drawn(Tuning(115200), 1, 0.02), Drawn(Tuning(115200), 2, 0.02), 0.0
        for one in read_trace(trace):
            text = one.text.encode() + b"\r\n" if one.text else b""
            if one.what is What.SAID:
                now = host.say(text, now + 0.01)
            elif one.what is What.HEARD:
                now = module.say(text, now + 0.01)
        file = tmp_path / "wave.vcd"
        file.write_text(as_vcd({"D0": host.edges, "D1": module.edges}, module.until(), 100))
        wexicon("trace", "import", str(file), "-l", "lindle-l9")
        assert (
            "0 differences, 11 exchanges are the same"
            in wexicon("trace", "compare", str(trace), str(tmp_path / "wave.jsonl")).stdout
        )


def test_secrets_are_hidden(tmp_path: Path) -> None:
    file = tmp_path / "quay.log"
    file.write_text("> AT+PIN=58213\n< OK\n> AT+LABEL=58213\n< OK\n")
    wexicon("trace", "import", str(file))
    assert "58213" not in (tmp_path / "quay.jsonl").read_text()


@pytest.mark.parametrize(
    ("name", "content", "why"),
    [
        ("a.vcd", "junk", "nothing moves on its lines"),
        ("a.vcd", "$timescale 3 parsec $end", "“3parsec” is not a timescale"),
        ("a.vcd", "#12x", "“#12x” is not a time"),
        ("a.vcd", "#²", "“#²” is not a time"),
        ("a.vcd", "#" + "9" * 5000, "is not a time"),
        ("a.vcd", "$timescale " + "9" * 400 + "us $end #1", "“#1” is not a time"),
        ("a.csv", "a,b\n1,x\n", "row 2: “x” is not a level"),
        ("a.csv", "a,b\ninf,1\n", "row 2 has no time and 1 levels"),
        ("a.log", f"[1] AT\n[{'9' * 400}] OK\n", "its times are more than ten years apart"),
        ("a.csv", "a,b\n1\n", "row 2 has no time and 1 levels"),
        ("a.csv", "a\n", "it has no columns of time and levels"),
        ("a.log", "\n\n", "nothing was sent in it"),
    ],
)
def test_what_is_no_capture_is_refused(name: str, content: str, why: str, tmp_path: Path) -> None:
    (tmp_path / name).write_text(content)
    assert why in wexicon("trace", "import", str(tmp_path / name), status=2).stderr
    assert not (tmp_path / "a.jsonl").exists()


def test_what_does_not_fit_is_refused(tmp_path: Path) -> None:
    lines, end = drawn()
    file = tmp_path / "quay.vcd"
    file.write_text(as_vcd(lines, end))
    assert "there is no line Q" in wexicon("trace", "import", str(file), "--host", "Q", status=2).stderr
    assert "no bit time fits" in wexicon("trace", "import", str(file), "--rate", "19200", status=2).stderr
    (tmp_path / "quay.jsonl").write_text("mine")
    assert "already exists" in wexicon("trace", "import", str(file), status=2).stderr
    assert (tmp_path / "quay.jsonl").read_text() == "mine"


@pytest.mark.parametrize(("rate", "told"), [(10400, "10[34]\\d\\d 8N1"), (9480, "9600 8N1, measured 94\\d\\d")])
def test_a_rate_is_called_a_usual_one_only_if_it_is_near(rate: int, told: str, tmp_path: Path) -> None:
    line = Drawn(Tuning(rate), 1, 0.02)
    line.say(b"AT+LABEL=quay 3 and the lamp\r\n", line.say(b"AT\r\n") + 0.01213)
    file = tmp_path / "quay.vcd"
    file.write_text(as_vcd({"D0": line.edges}, line.until()))
    assert re.search(f"host     {told}\n", wexicon("trace", "import", str(file)).stdout)


def test_the_trace_begins_so_long_before_the_date_of_the_file_as_it_lasted(tmp_path: Path) -> None:
    file = tmp_path / "a.log"
    file.write_text("10:00:00.000 > AT\n10:05:00.000 < OK\n")
    ended = datetime(2026, 11, 3, 9, 30, tzinfo=UTC)
    os.utime(file, (ended.timestamp(), ended.timestamp()))
    wexicon("trace", "import", str(file))
    opened = json.loads((tmp_path / "a.jsonl").read_text().splitlines()[0])
    assert datetime.fromisoformat(opened["wall"]) == ended - timedelta(minutes=5)


def test_one_line_with_a_number_in_front_makes_no_timed_log(tmp_path: Path) -> None:
    (tmp_path / "a.log").write_text("AT+CHAN?\n12 quay\nOK\n")
    wexicon("trace", "import", str(tmp_path / "a.log"))
    assert lines_of(tmp_path / "a.jsonl")[1] == ("module", "12 quay")


def test_as_the_built_program(tmp_path: Path) -> None:
    (tmp_path / "quay.log").write_text("AT\nOK\n")
    assert "4 bytes from the host, 4 from the module" in built("trace", "import", "quay.log", cwd=tmp_path).stdout
    assert lines_of(tmp_path / "quay.jsonl") == [("host", "AT"), ("module", "OK")]


def test_what_is_not_in_a_log_is_told_and_answers_keep_their_numbers(tmp_path: Path) -> None:
    (tmp_path / "a.log").write_text("AT+CHAN?\n12 quay\n0 0\n")
    wexicon("trace", "import", str(tmp_path / "a.log"))
    assert lines_of(tmp_path / "a.jsonl") == [("host", "AT+CHAN?"), ("module", "12 quay"), ("module", "0 0")]
    texts = [one.text for one in read_trace(tmp_path / "a.jsonl")]
    assert "rate, frame and line endings are not in a log" in texts
    assert "the log has no times: its lines stand 10 ms apart" in texts


def test_times_go_on_past_midnight(tmp_path: Path) -> None:
    (tmp_path / "a.log").write_text("23:59:59.500 > AT\n00:00:00.500 < OK\n")
    wexicon("trace", "import", str(tmp_path / "a.log"))
    heard = [one.at for one in read_trace(tmp_path / "a.jsonl") if one.what is What.HEARD]
    assert heard == pytest.approx([1.0])
