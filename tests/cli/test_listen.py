"""`wexicon listen` on ports: what it prints, its figures, how it ends, and that nothing is lost when much comes."""

from __future__ import annotations

import json
import os
import pty
import re
import signal
import subprocess
import sys
import threading
import time
import tty
from pathlib import Path
from typing import Any

import msgspec
import pytest

from tests.cli.terminal import Terminal
from tests.conftest import bench, built, clean, virtual, wexicon
from wexicon.core.agenda import Agenda
from wexicon.core.results.functions import HeardEvent, ListeningResult
from wexicon.core.standards.gnss import with_checksum
from wexicon.rigs.standins.polmar_p1 import PolmarP1

OUT = '["GGA", "RMC", "GSA", "GSV"]'
CLOCK = f'[unit.clock]\nstandin = "polmar-p1"\nsettings = {{ out = {OUT}, talker = "GN", port = [57600, 8, "N", 1] }}\n'
QUICK = "[air.sky]\nfix_in = 1.5\nwarm_fix_in = 1\nhot_fix_in = 0.5\n"
GPS = ("-l", "polmar-p1", "--rate", "57600")


def sentences(seconds: float) -> bytes:
    """What a receiver says in so many seconds."""
    agenda, said = Agenda(), []
    settings: dict[str, Any] = {"out": ("GGA", "RMC", "GSA", "GSV"), "talker": "GN", "port": (57600, 8, "N", 1)}
    one = PolmarP1(agenda, "one", settings)
    one.say = lambda text, delay=None: said.append(str(text))  # type: ignore[method-assign]
    one.power(True)
    agenda.run_until(seconds)
    return "".join(said).encode()


@pytest.mark.parametrize("serve", ["pty", "rfc2217"])
def test_events_come_decoded_with_their_time_and_a_summary_follows(serve: str) -> None:
    with bench(CLOCK.replace("settings", f'serve = "{serve}"\nsettings') + QUICK) as rig:
        words = (
            "listen",
            rig.ports["clock"],
            *GPS,
            "--do",
            "cold-start",
            "--until",
            "fix",
            "--for",
            "20s",
            "--only",
            "gga",
        )
        done = built(*words).stdout if serve == "pty" else wexicon(*words).stdout
    assert re.search(r"^\d\d:\d\d:\d\d\.\d{3}  gga +.*quality no fix", done, re.M)
    assert re.search(r"gga +time \d\d:\d\d:\d\d\.\d\d  latitude 51\.\d{6}° N .* altitude -?[\d.]+ m", done)
    assert re.search(r"first fix \d+\.\d s after its start", done) and "done: " in done


def test_each_line_of_json_keeps_its_schema_and_the_last_is_the_result() -> None:
    with bench(CLOCK + QUICK) as rig:
        done = built("listen", rig.ports["clock"], *GPS, "--for", "2s", "--json").stdout
    *events, last = done.splitlines()
    decoded = [msgspec.json.decode(line, type=HeardEvent) for line in events]
    result = msgspec.json.decode(last, type=ListeningResult)
    # Listening may have begun in the middle of a sentence: that is shown, and counted apart.
    assert len(decoded) == sum(result.events.values()) + result.unknown + result.damaged > 5
    assert [event.at for event in decoded] == sorted(event.at for event in decoded)
    assert json.loads(events[0])["wall"].endswith("Z") and Path(result.trace).is_file()


def test_what_is_not_there_ends_with_what_to_do() -> None:
    with virtual(CLOCK + QUICK + "satellites = 0\n") as rig:
        failed = wexicon(
            "listen", rig.ports["clock"], *GPS, "--until", "fix", "--for", "1s", "--only", "none", status=1
        )
        assert "fix did not come within 1.0 s" in failed.stderr and "open sky" in failed.stderr
        wrong = wexicon("listen", rig.ports["clock"], *GPS, "--until", "ggga", status=2).stderr
        assert "polmar-p1 has no event ggga" in wrong and "gga" in wrong
        nothing = wexicon("listen", rig.ports["clock"], *GPS, "--for", "1s", "--plot", "x.doc", status=2)
        assert "x.doc" in nothing.stderr
    assert "Say for how long" in wexicon("listen", "clock", "--rig", "r.toml", status=2).stderr
    lines = '[unit.plug]\nstandin = "tamsel-k6"\n'
    with virtual(lines) as rig:
        quiet = wexicon("listen", rig.ports["plug"], "--for", "300ms")
        assert "nothing came" in quiet.stdout and "no lexicon is stored" in quiet.stderr
        ask = wexicon("listen", rig.ports["plug"], "--ask", "--for", "1s", status=2).stderr
        assert "--ask needs the lexicon of the module" in ask


def test_known_sentences_are_decoded_without_a_lexicon() -> None:
    with virtual(CLOCK + QUICK) as rig:
        done = wexicon("listen", rig.ports["clock"], "--rate", "57600", "--for", "2500ms")
    # Listening may begin in the middle of a line.
    assert "quality fix" in done.stdout and "position 51.48" in done.stdout and "lines unknown" not in done.stdout


@pytest.mark.parametrize(("more", "status"), [((), 0), (("--for", "1m"), 130), (("--until", "start"), 130)])
def test_ctrl_c_is_how_listening_ends_unless_an_end_was_named(more: tuple[str, ...], status: int) -> None:
    with bench(CLOCK + QUICK) as rig:
        words = [sys.executable, "-m", "wexicon", "listen", rig.ports["clock"], *GPS, "--only", "gga", *more]
        one = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({}))
        assert one.stdout
        first = one.stdout.readline()
        one.send_signal(signal.SIGINT)
        rest, wrong = one.communicate(timeout=60)
    assert "gga" in first and one.returncode == status, wrong
    assert "position 51.48" in rest or "Traceback" not in wrong


def test_on_a_terminal_a_view_says_where_it_is() -> None:
    with bench(CLOCK + QUICK) as rig:
        one = Terminal("listen", rig.ports["clock"], *GPS, "--for", "3s", "--only", "rmc", columns=120)
        assert one.end() == 0
        seen = one.text()
    assert "listening" in seen and "satellites" in seen and "rmc" in seen and "done: " in seen


def test_nothing_is_lost_when_sentences_come_faster_than_any_module_sends() -> None:
    data = sentences(600)
    count = data.count(b"$")
    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    words = [
        sys.executable,
        "-m",
        "wexicon",
        "listen",
        os.ttyname(theirs),
        "-l",
        "polmar-p1",
        "--json",
        "--until",
        "txt",
    ]
    one = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({}))
    lines: list[str] = []
    assert one.stdout
    reader = threading.Thread(target=lambda: lines.extend(one.stdout), daemon=True)  # type: ignore[arg-type]
    reader.start()
    # It listens once its trace is there.
    folder = Path(os.environ["WEXICON_STATE"]) / "traces"
    until = time.monotonic() + 60
    while time.monotonic() < until and not list(folder.glob("*listen.jsonl")):
        time.sleep(0.02)
    time.sleep(0.2)
    sent = 0
    data += with_checksum("$GPTXT,01,01,02,end").encode() + b"\r\n"
    while sent < len(data):
        sent += os.write(ours, data[sent : sent + 4096])
    assert one.wait(60) == 0, one.stderr
    reader.join(10)
    result = msgspec.json.decode(lines[-1], type=ListeningResult)
    assert sum(result.events.values()) == count + 1 == len(lines) - 1 and result.damaged == result.unknown == 0
    kinds = {kind: len(re.findall(rb"\$..%b," % kind.upper().encode(), data)) for kind in ("gga", "rmc", "gsa", "gsv")}
    assert {kind: result.events[kind] for kind in kinds} == kinds
    traced = Path(result.trace).read_text().count('"heard"')
    assert traced == count + 1


@pytest.mark.parametrize("kind", ["png", "svg", "pdf"])
def test_figures_are_drawn_of_what_came(kind: str) -> None:
    Path("rig.toml").write_text("format = 1\n" + CLOCK + QUICK)
    done = wexicon("listen", "clock", "--rig", "rig.toml", "--for", "2m", "--only", "none", "--plot", f"sky.{kind}")
    assert f"wrote sky.{kind}" in done.stdout and Path(f"sky.{kind}").stat().st_size > 8000
    assert (
        "already exists"
        in wexicon("listen", "clock", "--rig", "rig.toml", "--for", "1s", "--plot", f"sky.{kind}", status=2).stderr
    )


def test_a_figure_of_power_saving_shows_asked_granted_and_observed() -> None:
    rig = '[unit.up]\nstandin = "cordal-n7"\n[unit.up.settings]\nsaving = 1\nlink_report = 1\nreport = 4\n'
    rig += 'periodic = "00100001"\n'
    Path("rig.toml").write_text("format = 1\n" + rig + '[air.network]\nactive_time = "00100001"\n')
    words = (
        "listen",
        "up",
        "--rig",
        "rig.toml",
        "--for",
        "6h",
        "--ask",
        "--check",
        "--only",
        "none",
        "--plot",
        "s.svg",
    )
    done = wexicon(*words)
    assert "active: the network grants 1 min 00 s where 10.0 s was asked" in done.stdout
    assert "periodic: observed 5 times, each within 1 s of the 1 h 00 min granted" in done.stdout
    text = Path("s.svg").read_text()
    # Matplotlib leaves each text in a comment.
    for one in (
        "sleep: asleep",
        "link: idle",
        "asked 10.0 s",
        "granted 1 min 00 s",
        "observed, 6 times",
        "periodic (min)",
    ):
        assert f"<!-- {one} -->" in text, one
    unasked = wexicon(*[word for word in words[:-2] if word != "--ask"], status=1)
    assert "active was observed, but what was granted was not read" in unasked.stderr and "--ask" in unasked.stderr
    assert "each within" not in unasked.stdout
    broken = wexicon(*[word.replace("s.svg", "t.svg") for word in words[:-2]], "--only", "link", status=0)
    assert "link" in broken.stdout
    Path("rig.toml").write_text(Path("rig.toml").read_text().replace("saving = 1\n", "saving = 1\nrestless = 600\n"))
    failed = wexicon(*words[:-2], status=1)
    assert "sleep awake came early" in failed.stderr and "periodic: observed" not in failed.stdout
