"""Every way to end a command that has the terminal: the terminal is as before, the trace is closed, there is a result."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import bench, clean, k5
from wexicon.rigs.serving import Server

CTRL_C, CTRL_D, ENTER = "\x03", "\x04", "\r"
SHEET = 'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\n[seat.plug.settings]\nname = "Withy Point"\n'
TRACE = "t.jsonl"
Ending = Callable[[Terminal], None]


def typed(text: str) -> Ending:
    return lambda terminal: terminal.type(text)


def hang_up(terminal: Terminal) -> None:
    terminal.hang_up()


def signals(*numbers: int) -> list[tuple[str, Ending, int]]:
    """Endings by signals: name, what ends the program, exit status."""

    def kill(number: int) -> Ending:
        return lambda terminal: os.kill(terminal.pid, number)

    return [(signal.Signals(number).name, kill(number), 130) for number in numbers]


USUAL = signals(signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT)


@pytest.fixture(scope="module")
def rig(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("WEXICON_RUN", str(tmp_path_factory.mktemp("run")))
        with bench(k5(powered="false") + '[unit.mast]\nstandin = "lindle-l9"\n') as server:
            yield server


def ends(terminal: Terminal, end: Ending, status: int) -> str:
    """Ends the program; it must leave all as it should. Gives what it printed."""
    end(terminal)
    found, shown = terminal.end(), terminal.text()
    assert found == status, f"status {found}: {shown}"
    assert terminal.restored, "the terminal is not as it was"
    assert "Traceback" not in shown and "internal error" not in shown and "Fatal" not in shown
    if Path(TRACE).exists():
        assert json.loads(Path(TRACE).read_text().splitlines()[-1])["what"] == "closed"
    return shown


TALK = [
    ("Ctrl-D", typed(CTRL_D), 0),
    (":quit", typed(":quit" + ENTER), 0),
    ("hang-up", hang_up, 130),
    *USUAL,
    *signals(signal.SIGALRM, signal.SIGUSR1),
]


@pytest.mark.parametrize(("end", "status"), [one[1:] for one in TALK], ids=[one[0] for one in TALK])
def test_talk(rig: Server, end: Ending, status: int) -> None:
    words = ("talk", rig.ports["mast"], "-l", "lindle-l9", "--trace", TRACE)
    terminal = Terminal(*words, PROMPT_TOOLKIT_NO_CPR="1")
    terminal.read(":help lists")
    terminal.type("@name?" + ENTER)
    terminal.read("name: ")
    shown = ends(terminal, end, status)
    assert end is hang_up or f"trace: {TRACE}" in shown


@pytest.mark.parametrize(
    ("line", "shown"),
    [(":allow 60s\r@name?", ">  @name?"), (":set pin", "pin:")],
    ids=["answer", "secret"],
)
@pytest.mark.parametrize(("end", "status"), [one[1:] for one in USUAL[1:3]], ids=[one[0] for one in USUAL[1:3]])
def test_talk_while_something_is_waited_for(rig: Server, line: str, shown: str, end: Ending, status: int) -> None:
    words = ("talk", rig.ports["plug"], "-l", "tamsel-k5", "--as-is", "--trace", TRACE)
    terminal = Terminal(*words, PROMPT_TOOLKIT_NO_CPR="1")
    terminal.read(":help lists")
    terminal.type(line + ENTER)
    terminal.read(shown)
    ends(terminal, end, status)


# -- hidden prompts, and the operator ---------------------------------------------------------------------------------------

AT_PROMPT = [("Ctrl-C", typed(CTRL_C), 130), ("Ctrl-D", typed(CTRL_D), 130), ("hang-up", hang_up, 130), *USUAL[1:]]


@pytest.mark.parametrize(("end", "status"), [one[1:] for one in AT_PROMPT], ids=[one[0] for one in AT_PROMPT])
def test_set_at_its_hidden_prompt(rig: Server, end: Ending, status: int) -> None:
    terminal = Terminal("set", rig.ports["plug"], "-l", "tamsel-k5", "pin", "--operator", "rig", "--trace", TRACE)
    terminal.read("pin:")
    ends(terminal, end, status)


AT_WORK = [("Ctrl-C twice", typed(CTRL_C + CTRL_C), 130), ("hang-up", hang_up, 130), *USUAL]


@pytest.mark.parametrize(("end", "status"), [one[1:] for one in AT_WORK], ids=[one[0] for one in AT_WORK])
def test_provision_while_the_operator_is_asked(rig: Server, end: Ending, status: int) -> None:
    Path("s.toml").write_text(SHEET)
    terminal = Terminal("provision", "s.toml", rig.ports["plug"], "--trace", TRACE)
    terminal.read("Hold the service key")
    shown = ends(terminal, end, status)
    assert end is hang_up or "stopp" in shown
    assert Path(TRACE).exists()


# -- streams that are closed, disks that are full -----------------------------------------------------------------------------


def run(rig: Server, *words: str, most: int | None = None, **streams: object) -> subprocess.CompletedProcess[str]:
    """Runs the built program on the mast's port; `most` is the largest file that it can write (bytes)."""

    def limit() -> None:
        if most is not None:
            resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))

    command = [sys.executable, "-m", "wexicon", words[0], rig.ports["mast"], *words[1:]]
    streams = {"stdout": subprocess.PIPE, "input": "", **streams}
    # Python itself leaves half a file where it caches a module and the disk is full.
    own = clean({"PYTHONDONTWRITEBYTECODE": "1"})
    done = subprocess.run(command, stderr=subprocess.PIPE, text=True, timeout=60, env=own, preexec_fn=limit, **streams)
    assert "Traceback" not in done.stderr and "internal error" not in done.stderr and "Exception" not in done.stderr
    return done


@pytest.mark.parametrize("closed", [0, 1, 2])
def test_a_closed_stream_is_not_taken_for_the_port(rig: Server, closed: int) -> None:
    words = (
        f'exec {closed}>&-; exec "{sys.executable}" -m wexicon readout {rig.ports["mast"]} -l lindle-l9 --trace {TRACE}'
    )
    done = subprocess.run(["sh", "-c", words], capture_output=True, text=True, timeout=60, env=clean({}))
    assert done.returncode == 0, done.stderr
    assert ("LINDLE" in done.stdout) == (closed != 1) and not done.stderr
    assert "LINDLE" in Path(TRACE).read_text() and '"what":"closed"' in Path(TRACE).read_text()


def test_a_result_that_cannot_be_printed_is_said_to_be_so(rig: Server) -> None:
    with Path("/dev/full").open("w") as full:
        for words in (["readout"], ["readout", "--json"], ["readout", "--help"]):
            done = run(rig, *words, "-l", "lindle-l9", stdout=full)
            assert done.returncode == 2 and "No space left" in done.stderr
        # Notes that cannot be printed stop nothing.
        command = [sys.executable, "-m", "wexicon", "readout", rig.ports["mast"]]
        heard = subprocess.run(command, stdout=subprocess.PIPE, stderr=full, text=True, timeout=60, env=clean({}))
        assert heard.returncode == 0 and "LINDLE" in heard.stdout


@pytest.mark.parametrize("most", [0, 300, 2_000])
def test_a_full_disk_ends_in_a_message(rig: Server, most: int) -> None:
    Path("s.toml").write_text(SHEET.replace("plug", "mast").replace("tamsel-k5", "lindle-l9"))
    for words in (["readout"], ["talk", "-l", "lindle-l9"], ["set", "name=quay 3", "-l", "lindle-l9"]):
        done = run(rig, *words, most=most, input="@name?\n" * 40)
        assert done.returncode in (1, 2), (words, done)
        assert "cannot be written" in done.stderr, (words, done.stderr)
