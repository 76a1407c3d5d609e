"""What a person sees on a terminal: progress, what the operator is asked, secrets typed unseen, tables that fit."""

from __future__ import annotations

import os
import signal
from pathlib import Path

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import bench, k5, wexicon, without_times
from wexicon.cli.show import lines_of, width

PIN = "48213"
PLUG = 'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\n[seat.plug.settings]\nname = "Withy Point"\n'


def test_a_secret_is_asked_for_and_typed_unseen(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(PLUG + 'pin = { prompt = "PIN of the plug" }\n')
    with bench(k5()) as rig:
        terminal = Terminal("provision", "s.toml", rig.ports["plug"], "--operator", "rig")
        terminal.read("PIN of the plug:")
        terminal.type(PIN + "\n")
        assert terminal.end() == 0
        assert rig.rig.units["plug"].standin.flash["pass"] == PIN
    assert PIN not in terminal.text() and "conforms" in terminal.text()
    assert not [path for path in tmp_path.rglob("*") if path.is_file() and PIN in without_times(path.read_bytes())]
    # With no terminal there is nobody to ask.
    told = wexicon("provision", "s.toml", "/dev/null", status=2).stderr
    assert "the secret must be asked for, and there is no terminal to ask on" in told


def test_a_secret_is_shown_on_a_terminal_if_that_is_asked_for_and_recorded_nowhere(tmp_path: Path) -> None:
    with bench(k5(settings=f'{{ pass = "{PIN}" }}')) as rig:
        words = ("readout", rig.ports["plug"], "-l", "tamsel-k5", "--operator", "rig", "--show")
        told = wexicon(*words, "pin", status=2)
        assert "--show needs a terminal" in told.stderr and PIN not in told.stdout
        assert "there is no setting pim to show" in wexicon(*words, "pim", status=2).stderr
        terminal = Terminal(*words, "pin")
        assert terminal.end() == 0 and f"pin: {PIN}" in terminal.text() and terminal.text().count(PIN) == 1
    [trace] = tmp_path.rglob("*-readout.jsonl")
    assert "pin was shown on the terminal" in trace.read_text()
    assert not [path for path in tmp_path.rglob("*") if path.is_file() and PIN in without_times(path.read_bytes())]


def test_what_the_operator_is_asked_stands_on_a_line_of_its_own(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(PLUG.replace("Withy Point", "TAMSEL-K5"))
    with bench(k5(powered="false")) as rig:
        terminal = Terminal("provision", "s.toml", rig.ports["plug"], columns=200)
        terminal.read("Hold the service key")
        wexicon("rig", "attend", "plug")
        # Restarted to prove what it holds, it has to be brought back to command mode.
        terminal.read("Hold the service key", times=2)
        wexicon("rig", "attend", "plug")
        status = terminal.end()
    shown = terminal.text().replace("\x1b[2K", "\n").replace("\r", "\n")
    asked = [line for line in shown.splitlines() if "Hold the service key" in line]
    assert asked and all(line.startswith("operator, step ") for line in asked)
    assert any("plug: attention" in line for line in shown.splitlines())  # the step that is being done
    assert status == 0 and "read back after a power cycle" in shown


def test_ctrl_c_on_a_terminal_stops_after_the_exchange_and_the_second_at_once(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(PLUG)
    with bench(k5(powered="false")) as rig:
        terminal = Terminal("provision", "s.toml", rig.ports["plug"])
        terminal.read("Hold the service key")
        terminal.type("\x03")
        terminal.read("stopping after this exchange")
        assert terminal.end() == 130
    assert "stopped at the step" in terminal.text() and "Traceback" not in terminal.text()


def test_a_closed_terminal_ends_the_run_with_its_trace_whole(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(PLUG)
    with bench(k5(powered="false")) as rig:
        terminal = Terminal("provision", "s.toml", rig.ports["plug"], "--trace", "t.jsonl")
        terminal.read("Hold the service key")
        os.kill(terminal.pid, signal.SIGHUP)
        terminal.end()
    last = (tmp_path / "t.jsonl").read_text().splitlines()[-1]
    assert '"what":"closed"' in last


def test_secrets_of_a_dialogue_are_asked_for_too(tmp_path: Path) -> None:
    (tmp_path / "s.wex").write_text('needs phrase secret\nneeds ssid\nnote "{ssid}: {phrase}"\n')
    terminal = Terminal("rehearse", "s.wex", "--standin", "brisca-w1")
    terminal.read("phrase:")
    terminal.type("mud flats 7\n")
    terminal.read("ssid:")
    terminal.type("Harbour Office\n")
    assert terminal.end() == 0
    assert "Harbour Office: (secret)" in terminal.text() and "mud flats" not in terminal.text()


# -- tables -----------------------------------------------------------------------------------------------------------------


def test_a_table_folds_where_the_terminal_is_narrow_and_loses_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    columns, rows = ("setting", "meaning"), [("name", "what other devices see while they scan for it"), ("pin", "")]
    plain = lines_of(columns, rows, terminal=False)
    assert plain[0] == "setting   meaning" and plain[2].startswith("name      what other") and len(plain) == 4
    monkeypatch.setenv("COLUMNS", "34")
    folded = lines_of(columns, rows, terminal=True)
    assert max(map(width, folded)) <= 34
    words = " ".join(" ".join(line.split()) for line in folded)
    assert all(word in words for word in rows[0][1].split())


@pytest.mark.parametrize(("text", "columns"), [("abc", 3), ("水位", 4), ("e\u0301", 1), ("", 0)])
def test_widths_are_those_of_a_terminal(text: str, columns: int) -> None:
    assert width(text) == columns


def test_colour_only_stresses_and_goes_where_it_is_not_wanted(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(PLUG)
    assert "\x1b[" not in wexicon("rehearse", "s.toml").stdout
    environment = {name: value for name, value in os.environ.items() if name != "NO_COLOR"}
    assert "\x1b[" not in wexicon("rehearse", "s.toml", env=environment).stdout  # a pipe
    terminal = Terminal("rehearse", "s.toml")
    assert terminal.end() == 0 and b"\x1b[1m" not in terminal.seen  # NO_COLOR is set here
