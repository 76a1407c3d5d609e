"""What is told while something takes long: on a terminal in one line that changes, elsewhere every ten seconds."""

from __future__ import annotations

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import bench
from wexicon.cli import progress as module
from wexicon.cli.progress import Progress
from wexicon.core.protocol.observations import Began, Heard, Noted, Role, Said, Tuned
from wexicon.core.tuning import Tuning


def test_elsewhere_a_line_comes_every_ten_seconds(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    clock = iter(range(1000))
    now = [0.0]
    monkeypatch.setattr(module.time, "monotonic", lambda: now[0])
    one = Progress("readout of bench-left")
    for second in clock:
        now[0] = float(second)
        if second == 0:
            one.note(Began(0.0, "attention", searching=True))
            one.note(Tuned(0.0, Tuning(57600)))
        if second == 22:
            one.note(Began(22.0, "register"))
            one.note(Noted(22.0, "searching; signal -71 dBm"))
            one.note(Said(22.0, "AT+CEREG?"))
        one.idle()
        if second == 45:
            break
    told = capsys.readouterr().err.splitlines()
    assert told == [
        "readout of bench-left: attention at 57600 8N1 (10 s)",
        "readout of bench-left: attention at 57600 8N1 (20 s)",
        "readout of bench-left: register; searching; signal -71 dBm; waiting for the answer to “AT+CEREG?” (8 s)",
        "readout of bench-left: register; searching; signal -71 dBm; waiting for the answer to “AT+CEREG?” (18 s)",
    ]
    quiet = Progress("hail", quiet=True)
    now[0] = 99.0
    quiet.note(Heard(1.0, "OK", Role.OK))
    assert not capsys.readouterr().err


def test_on_a_terminal_state_and_signal_are_told_while_a_module_registers() -> None:
    with bench('[unit.relay]\nstandin = "cordal-n7"\n[air.network]\nregisters_in = 4.0\n') as rig:
        one = Terminal("do", rig.ports["relay"], "register-eps", "-l", "cordal-n7", columns=140)
        assert one.end() == 0
        seen = one.text()
    assert "register-eps; not registered, searching; signal" in seen and " s; may take 3 min 00 s)" in seen
    assert "registered, home network" in seen
