"""Every command with a marked secret, right and failing: it stands nowhere in what is printed, written or shown to others."""

from __future__ import annotations

import os
import pty
import signal
import subprocess
import sys
import threading
import time
import tty
from pathlib import Path

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import bench, clean, k5, virtual, wexicon
from wexicon.core.standards.charsets import gsm7_hex, packed_anywhere, ucs2

PIN, KEY = "90377", 'Mudflat\\\\"Nine, tide'
SET = ("-l", "tamsel-k5", "--operator", "rig", "--env", "pin=PIN", "role=follower")
SHEET = """format = 1
[seat.plug]
lexicon = "tamsel-k5"
[seat.plug.settings]
pin = { env = "PIN" }
name = { file = "name.key" }
"""
DIALOGUE = """needs key secret
needs label
keep copy = upper(key)
keep parts = split(key, ",")
keep copy, parts
note "it is {key} or {copy}, {label}"
again up to 2
    > AT+LABEL={label}
    < OK
> AT+LABEL={key|hex}
| ERR {code}
    > AT+LABEL?
    < +LABEL {back}
    keep back
operator "type {copy}"
"""
FAILING = (
    "check key == copy", "check hex_number(key) == 1", 'fail "no {key} {copy}"', "> AT+LABEL={key|ucs2}\n< +NEVER {=key}",
    "set name = key", "set pin = key", "read pin\nkeep pin\ncheck pin == 1", "> AT+LABEL={label}\n< OK\n> AT+LABEL?\n< {=key}",
    "tune copy",
)  # fmt: skip


def writings(secret: str) -> list[str]:
    """The secret in every writing that could leave."""
    data = secret.encode()
    found = [
        secret,
        secret.upper(),
        secret.replace("\\", "\\\\"),
        secret.replace('"', '\\"'),
        data.hex(),
        data.hex(" "),
    ]
    found += [ucs2(secret).hex(), gsm7_hex(secret), *(one.hex() for one in packed_anywhere(secret) if len(one) > 2)]
    found += [part for part in secret.replace("\\", ",").replace('"', ",").split(",") if len(part.strip()) > 3]
    return [one.casefold() for one in found]


# Where the secrets of these tests come from.
SOURCES = ("name.key", "long.key", "typed.txt")


def none_is_shown(folder: Path, *told: str) -> None:
    files = [path for path in folder.rglob("*") if path.is_file() and path.name not in SOURCES]
    texts = {str(path): path.read_text(errors="replace") for path in files}
    texts |= {str(number): text for number, text in enumerate(told)}
    for where, text in texts.items():
        for secret in (PIN, KEY):
            for form in writings(secret):
                assert form not in text.casefold(), (
                    where,
                    form,
                    text[max(0, text.casefold().find(form) - 300) :][:400],
                )


@pytest.fixture
def env(monkeypatch: pytest.MonkeyPatch) -> dict[str, str]:
    Path("name.key").write_text("Gullcry Seven")
    Path("long.key").write_text(KEY)
    Path("s.toml").write_text(SHEET)
    return clean({"PIN": PIN, "KEY": KEY})


def test_no_command_shows_a_secret(env: dict[str, str], tmp_path: Path) -> None:
    told: list[str] = []

    def call(*words: str, status: int = 0, forms: tuple[tuple[str, ...], ...] = ((), ("--json",))) -> None:
        for more in forms:
            told.extend(wexicon(*words, *more, status=status, env=env))

    with virtual(k5()) as rig:
        port = rig.ports["plug"]
        call("verify", "s.toml", port, "--operator", "rig", status=1)
        call("provision", "s.toml", port, "--operator", "rig")
        call("readout", port, "-l", "tamsel-k5", "--operator", "rig")
        call("set", port, *SET)
        call("do", port, "save", "-l", "tamsel-k5", "--operator", "rig")
        call("rehearse", "s.toml")
        values = ("--env", "key=KEY", "--file", "label=long.key", "-l", "tamsel-k5")
        Path("d.wex").write_text(DIALOGUE)
        call("run", "d.wex", port, *values, "--operator", "rig")
        for number, line in enumerate(FAILING):
            path = Path(f"f{number}.wex")
            path.write_text("needs key secret\nneeds label\nkeep copy = upper(key)\n" + line + "\n")
            words = ("rehearse", str(path), *values, "--trace", f"state/f{number}.jsonl")
            call(*words, status=0 if "set name" in line else 1, forms=((), ("--json",))[number % 2 :][:1])
    with bench(k5()) as served:
        words = [sys.executable, "-m", "wexicon", "set", served.ports["plug"], *SET]
        running = subprocess.Popen(words, stdout=-1, stderr=-1, stdin=subprocess.DEVNULL, text=True, env=env)
        own = ["ps", "-ww", "-o", "args", "--ppid", str(os.getpid())]  # other tests run beside this one
        listed = subprocess.run(own, capture_output=True, text=True, check=True).stdout
        told.extend((*running.communicate(timeout=60), listed))
        assert running.returncode == 0 and "pin=PIN" in listed
    for trace in sorted((tmp_path / "state").rglob("*.jsonl"))[:4]:
        told.append(wexicon("trace", "show", str(trace)).stdout)
        told.append(wexicon("trace", "dialogue", str(trace)).stdout)
    none_is_shown(tmp_path, *told)
    assert any("(secret)" in text for text in told)
    for path in (tmp_path / "state").rglob("*"):
        assert path.stat().st_mode & 0o077 == 0, path


def test_no_file_that_is_written_anywhere_has_a_secret(env: dict[str, str], tmp_path: Path) -> None:
    """History, trace, `:keep`, `:sheet`, register, waiting records, exports, labels, plots, the whole state folder."""
    told: list[str] = []
    Path("typed.txt").write_text(
        f"AT+PASS={PIN}\nat + pass = {PIN}\n:> AT+PASS={PIN}\n:>> AT+PASS={PIN}\\r\nAT+PASS?\n:set pin = {PIN}\n"
        f":sheet kept.toml\n:keep kept.wex\n::AT+PASS={PIN}\n:keep kept2.wex\n"
    )
    with bench(k5()) as rig:
        port = rig.ports["plug"]
        told += wexicon("provision", "s.toml", port, "--operator", "rig", env=env)
        away = {**env, "WEXICON_REGISTER": "postgresql+psycopg://bench@127.0.0.1:9/units"}
        told += wexicon("verify", "s.toml", port, "--operator", "rig", env=away)
        typed = Path("typed.txt").read_text()
        words = ("talk", port, "-l", "tamsel-k5", "--operator", "rig")
        told += [text.replace(typed, "") for text in wexicon(*words, input=typed, status=1, env=env)]
        terminal = Terminal(*words, columns=160, PROMPT_TOOLKIT_NO_CPR="1")
        terminal.read(":help lists")
        for line in (f"AT+PASS={PIN}", f"aT+pAsS={PIN}", ":set pin"):
            terminal.type(line + "\r")
        terminal.read("pin:")
        terminal.type(f"{PIN}\r")
        terminal.read("AT+PASS=(secret)", times=2)
        terminal.type("AT+LABEL?\r")
        terminal.read("name: ")
        terminal.type("\x04")
        assert terminal.end() == 0
        told.append(terminal.text())
        told += wexicon("readout", port, "-l", "tamsel-k5", "--operator", "rig", "-o", "read.toml", env=env)
    for name in ("u.csv", "u.json"):
        told += wexicon("units", "export", "-o", name, env=env)
    for name in ("l.svg", "l.pdf", "l.png"):
        told += wexicon("units", "label", "-o", name, "--with", "name,pin,address", env=env)
    written = {path.name for path in tmp_path.rglob("*") if path.is_file()}
    assert {"kept.toml", "kept.wex", "u.csv", "l.svg", "read.toml", "register.db", "tamsel-k5"} <= written
    assert list((tmp_path / "state" / "waiting").rglob("*.json"))
    none_is_shown(tmp_path, *told)


def test_a_port_that_babbles_is_left_within_a_second_and_fills_nothing(tmp_path: Path) -> None:
    master, slave = pty.openpty()
    tty.setraw(slave)
    done = threading.Event()

    def babble() -> None:
        while not done.is_set():
            os.write(master, b"+BABBLE and no end to it, at a rate that no UART has\r\n" * 60)

    thread = threading.Thread(target=babble, daemon=True)
    thread.start()
    program = subprocess.Popen(
        [sys.executable, "-m", "wexicon", "readout", os.ttyname(slave), "-l", "lindle-l9"],
        stderr=subprocess.PIPE,
        text=True,
        env=clean({}),
    )
    time.sleep(3)
    program.send_signal(signal.SIGINT)
    _, err = program.communicate(timeout=60)
    done.set()
    os.close(slave)
    assert program.returncode in (3, 130), err
    assert sum(path.stat().st_size for path in tmp_path.rglob("*.jsonl")) < 300_000_000
