"""`rig`, `ports` and `trace show`, as the built program; and that no file, however wrong, gives a traceback."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import SAMPLE, bench, clean, k5, wexicon
from wexicon.core.agenda import Agenda
from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.formats.sheet_reading import Around, read_sheet
from wexicon.files import shipped_folder
from wexicon.records.trace import read_trace
from wexicon.rigs.rig import read_rig


def test_a_rig_in_its_own_process_is_listed_worked_and_stopped() -> None:
    words = [sys.executable, "-m", "wexicon", "rig", "start", str(SAMPLE / "rig.toml")]
    running = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, env=clean({"PYTHONUNBUFFERED": "1"}))
    assert running.stdout
    while "serving" not in running.stdout.readline():
        pass
    units = json.loads(wexicon("rig", "ports", "--json").stdout)
    unit = next(one for one in units if one["unit"] == "withy-plug")
    assert unit["standin"] == "tamsel-k5"
    assert unit["port"] in [port["port"] for port in json.loads(wexicon("ports", "--json").stdout)]
    assert unit["port"] in wexicon("rig", "ports").stdout and "stand-in tamsel-k5" in wexicon("ports").stdout
    wexicon("rig", "attend", "withy-plug")
    told = wexicon("readout", unit["port"], "-l", "tamsel-k5", "--operator", "nobody", "--patience", "5s")
    assert "TAMSEL-K5" in told.stdout
    assert "did you mean withy-plug" in wexicon("rig", "power", "wity-plug", "off", status=2).stderr
    assert "it has service" in wexicon("rig", "key", "withy-plug", "hold", "--key", "reset", status=2).stderr
    wexicon("rig", "stop")
    assert running.wait(timeout=60) == 0
    assert "no rig is running" in wexicon("rig", "ports").stdout


def test_ports_watch_tells_what_appears() -> None:
    words = [sys.executable, "-m", "wexicon", "ports", "--watch"]
    running = subprocess.Popen(
        words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({"PYTHONUNBUFFERED": "1"})
    )
    try:
        assert running.stdout and running.stderr and "watching" in running.stderr.readline()
        with bench(k5()) as rig:
            while "appeared" not in (line := running.stdout.readline()):
                pass
            assert rig.ports["plug"] in line
        while "gone" not in (line := running.stdout.readline()):
            pass
    finally:
        running.kill()
        running.communicate()


def test_calls_that_are_wrong_say_so() -> None:
    assert "did you mean provision?" in wexicon("provisoin", status=2).stderr
    assert "did you mean tamsel-k6?" in wexicon("readout", "/dev/null", "-l", "tamsel-k6x", status=2).stderr
    assert "cannot be read" in wexicon("provision", "none.toml", "/dev/null", status=2).stderr
    assert "300ms or 2m" in wexicon("verify", "x", "y", "--patience", "soon", status=2).stderr
    Path("t.jsonl").write_text('{"at": 1}\n')
    assert "t.jsonl:1: not a trace record" in wexicon("trace", "show", "t.jsonl", status=2).stderr


LEXICON = (shipped_folder() / "tamsel-k5.toml").read_text()


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("[speech]", "[speach]", f":{LEXICON.splitlines().index('[speech]') + 1}: speach: no such table"),
        ("max_bytes", "max_byte", "setting.name.value.max_byte: no such key"),
        ('kind = "digits"', 'kind = "digit"', "digits"),
        ('"+LABEL {value}"', '"+LABEL {valu}"', "setting.name.read: hears no {value}"),
        ('"ERR {code:int}"', '"ERR {code:int"', "never closed"),
        ('how       = "held-key"', 'how = "held-kee"', "did you mean held-key?"),
        ('then = ["save", "restart"]', 'then = ["safe"]', "there is no action safe"),
        ('needs   = { role = "leader" }', 'needs = { role = "chief" }', "is not one of follower, leader"),
        ('within  = "600ms"', 'within = "soon"', "not a duration"),
        ("> AT+KEEP", "+ AT+KEEP", "there is no statement"),
        ("format = 1", "format = 2", "format 2 is not known"),
        ('end     = "crlf"', 'end = "crnl"', "'crnl' is not one of none, cr, lf, crlf"),
    ],
)  # fmt: skip
def test_faults_of_a_lexicon_have_a_place_and_a_suggestion(old: str, new: str, told: str) -> None:
    with pytest.raises(Fault) as fault:
        read_lexicon(LEXICON.replace(old, new).encode(), "k.toml")
    assert told in str(fault.value) and "k.toml:" in str(fault.value)


def test_all_faults_of_a_lexicon_are_told_in_one_go() -> None:
    text = LEXICON.replace("max_bytes", "max_byte").replace("ok      =", "okay =").replace("min = 4", 'min = "4"')
    with pytest.raises(Fault) as fault:
        read_lexicon(text.encode(), "k.toml")
    assert all(word in str(fault.value) for word in ("max_byte", "okay", "setting.pin.value.min"))


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_any_file_is_read_or_refused(tmp_path: Path, data: st.DataObject) -> None:
    texts = (LEXICON, (SAMPLE / "service-plug.toml").read_text(), (SAMPLE / "rig.toml").read_text())
    text = data.draw(st.sampled_from(texts)).encode()
    at, end = sorted(data.draw(st.tuples(st.integers(0, len(text)), st.integers(0, len(text)))))
    text = text[:at] + data.draw(st.binary(max_size=12) | st.text('{}[]="', max_size=6).map(str.encode)) + text[end:]
    lexicon = read_lexicon(LEXICON.encode(), "k")
    (tmp_path / "t").write_bytes(text)
    for read in (
        lambda: read_lexicon(text, "x"),
        lambda: read_sheet(text, "x", Around(lambda name: lexicon, lambda kind, name: "1234")),
        lambda: read_rig(text, "x", Agenda()),
        lambda: list(read_trace(tmp_path / "t")),
    ):
        try:
            read()
        except Fault as fault:
            assert str(fault)
