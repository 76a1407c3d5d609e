"""`talk` in a real terminal, and through a pipe: history, completion, events while typing, pastes, a dialogue that is kept."""

from __future__ import annotations

import json
import re
from pathlib import Path

from tests.cli.terminal import Terminal
from tests.conftest import bench, k5, wexicon, without_times

MAST = '[unit.mast]\nstandin = "lindle-l9"\n'
UP, TAB, ENTER, CTRL_C, CTRL_D = "\x1b[A", "\t", "\r", "\x03", "\x04"


def console(port: str, *words: str) -> Terminal:
    return Terminal("talk", port, *words, columns=120, PROMPT_TOOLKIT_NO_CPR="1")


def test_history_completion_and_a_rate_changed_on_the_fly() -> None:
    with bench(MAST) as rig:
        one = console(rig.ports["mast"], "-l", "lindle-l9")
        one.read(":help lists")
        one.type("@ua")
        one.read("reads rate: UART rate")  # completion shows what it means
        one.type("rt?" + ENTER)
        one.read("rate: 9600 baud")
        one.type("@uart=19200" + ENTER)
        one.read("writes rate: 19200 baud")
        one.type(":tune 19200" + ENTER)
        one.read("our side at 19200 8N1")
        one.type(UP + UP + UP + ENTER)  # the first line, from the history
        one.read("rate: 19200 baud")
        one.type("@poewr" + CTRL_C + ":keep moved.wex" + ENTER)
        one.read("wrote moved.wex")
        one.type(CTRL_D)
        assert one.end() == 0
        assert "@uart=19200" in next((Path("state") / "history").iterdir()).read_text()
        again = console(rig.ports["mast"], "-l", "lindle-l9")
        again.read(":help lists")
        again.type(UP + UP + ENTER)  # kept for the next time
        again.read("rate: 19200 baud")
        again.type(CTRL_D)
        assert again.end() == 0
    assert "tune 19200" in Path("moved.wex").read_text() and "@poewr" not in one.text().replace("> @poewr", "")
    with bench(MAST) as rig:
        assert "passed" in wexicon("run", "moved.wex", rig.ports["mast"], "-l", "lindle-l9").stdout


def test_an_event_that_comes_while_a_line_is_typed_leaves_it_whole() -> None:
    with bench(MAST) as rig:
        one = console(rig.ports["mast"], "-l", "lindle-l9")
        one.read(":help lists")
        one.type("@na")
        one.read("@na")
        standin = rig.rig.units["mast"].standin
        rig.call(lambda: standin.say("@air snr 9 rssi -71 from 2: tide 3.1 m\n", 0))
        one.read("air: snr 9, rssi -71, from 2, data tide 3.1 m")
        one.type("me?" + ENTER)
        one.read("name: L9")
        one.type(CTRL_D)
        assert one.end() == 0
    shown = one.text().replace("\r", "\n").splitlines()
    assert any(re.search(r"<  @air snr 9 rssi -71 from 2: tide 3.1 m +air:", line) for line in shown)


def test_a_paste_of_two_hundred_lines_loses_none() -> None:
    with bench(MAST) as rig:
        one = console(rig.ports["mast"], "-l", "lindle-l9")
        one.read(":help lists")
        one.type("\x1b[200~" + "".join(f"@name=mast {number}\n" for number in range(200)) + "@name?\x1b[201~" + ENTER)
        one.read("name: mast 199", within=60)
        one.type(CTRL_D)
        assert one.end() == 0
    said = re.findall(r">  @name=mast (\d+) ", one.text())
    assert said == [str(number) for number in range(200)]


def test_secrets_are_typed_unseen_and_in_no_history() -> None:
    with bench(k5()) as rig:
        one = console(rig.ports["plug"], "-l", "tamsel-k5", "--operator", "rig")
        one.read(":help lists")
        one.type("AT+PASS=7319")
        one.read("AT+PASS=****")
        one.type(ENTER)
        one.read("writes pin")
        one.type(":set pin" + ENTER)
        one.read("pin:")
        one.type("8642" + ENTER)
        one.read("AT+PASS=(secret)")
        one.type("AT+WHO?" + ENTER)
        one.read("TAMSEL-K5")
        one.type(CTRL_D)
        assert one.end() == 0
        assert rig.rig.units["plug"].standin.memory["pass"] == "8642"
    files = without_times(b"".join(path.read_bytes() for path in Path("state").rglob("*") if path.is_file()))
    for secret in ("7319", "8642"):
        assert secret not in without_times(one.seen) + files


def test_through_a_pipe_lines_go_in_and_come_out_and_the_status_tells() -> None:
    with bench(MAST) as rig:
        words = ("talk", rig.ports["mast"], "-l", "lindle-l9")
        done = wexicon(*words, input="@net?\n:set network = 5\n@net?\n")
        told = [line.split(None, 1)[1] for line in done.stdout.splitlines()]
        assert [line[:10].rstrip() for line in told if "who" not in line and not line.startswith("~")] == [
            ">  @net?",
            "<  @net 1",
            ">  @net=5",
            "<  @ok",
            ">  @net?",
            "<  @net 5",
        ]
        assert done.stderr == f"unsaved: network; to save it: wexicon do {rig.ports['mast']} save\n"
        wrong = wexicon(*words, input="@bad\n:what\n", status=1)
        assert "<  @err 2" in wrong.stdout and "there is no statement what" in wrong.stderr
        told = [json.loads(line) for line in wexicon(*words, "--json", input="@net?\n").stdout.splitlines()]
        assert [(one["mark"], one["text"], one["meaning"]) for one in told[:-1]][-1] == ("<", "@net 5", "network: 5")
        assert [one["value"] for one in told[-1]["known"] if one["part"] == "mode"] == ["command"]
        assert "owed" not in {one["part"] for one in told[-1]["known"]}
        # Without a lexicon, as the port is remembered or as it is told.
        assert "@net 5" in wexicon("talk", rig.ports["mast"], "--rate", "9600", "--end", "lf", input="@net?\n").stdout
    assert "there is no such port" in wexicon("talk", "/dev/nothing", input="x\n", status=3).stderr


def test_nothing_that_a_module_sends_moves_the_cursor() -> None:
    with bench(MAST) as rig:
        one = console(rig.ports["mast"], "-l", "lindle-l9")
        one.read(":help lists")
        standin = rig.rig.units["mast"].standin
        rig.call(lambda: standin.say(b"\x1b]0;owned\x07\x1b[2J\x9b5mhere\n", 0))
        one.read("here")
        one.type(CTRL_D)
        assert one.end() == 0
    assert b"\x1b]0;owned" not in one.seen and b"\x9b5m" not in one.seen and "\\x1B]0;owned\\x07" in one.text()
