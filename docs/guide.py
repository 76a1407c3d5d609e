"""Runs every command line of the pages of the guide, on stand-ins, and compares what is printed with what the page shows.

    python docs/guide.py               runs all pages
    python docs/guide.py PAGE ...      runs these
    python docs/guide.py --write PAGE  puts what was printed into the page

The rule: a page says in comments what it needs, and nothing else about a command is hidden from the reader.

    <!-- guide: rig rig.toml; /dev/ttyUSB0 = office-screen -->      which rigs run, and which unit is on which port
    <!-- guide: first wexicon provision ... -->                       what was done before the page begins
    <!-- guide: anew -->                                              each command of the next block begins on a new bench
    <!-- guide: moment 8s -->                                         what runs for long does so for that long
    <!-- guide: status 0 1 -->                                        how the commands of the next block may end
    <!-- guide: parsed: needs a scanner -->                           the next block's commands are only parsed, and why
    <!-- guide: page parsed: ... -->                                  the same for the whole page
"""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import NamedTuple

import click

DOCS = Path(__file__).parent
ROOT = DOCS.parent
SAMPLE = ROOT / "src" / "wexicon" / "sample"
_HINT = re.compile(r"<!-- guide: (.*?) -->")
_COMMAND = re.compile(r"^(?:    |\$ |    \$ )((?:[A-Z_]+=\S+ )?(?:wexicon|printf|cat|echo) .*)$")
# A file that the reader is told to write.
_FILE = re.compile(r"```(?:toml|text|csv|wex) (\S+\.\w+)\n(.*?)```", re.DOTALL)
# What runs until it is stopped, or for long, does so for a moment here.
_MOMENT = "1s"
_LONGER = re.compile(r"<!-- guide: moment (\w+) -->")


class Block(NamedTuple):
    """Some command lines of a page with what is shown below each, and the number of each line; `status` are the exit statuses
    that are right; `parsed` why they are not run; `fenced` if what is printed is shown."""

    commands: list[str]
    shown: list[list[str]]
    status: tuple[int, ...]
    parsed: str
    anew: bool
    lines: list[int]
    fenced: bool


class Ran(NamedTuple):
    """A command that was run: what it printed, and what the page shows."""

    command: str
    status: int
    wanted: tuple[int, ...]
    printed: list[str]
    shown: list[str]
    line: int
    fenced: bool


def pages() -> list[Path]:
    """The pages with commands."""
    # Its lines are figures of calls, not calls.
    found = [path for path in (ROOT / "README.md", *sorted(DOCS.glob("*.md"))) if path.name != "performance.md"]
    return [path for path in found if any(block.commands for block in blocks(path.read_text()))]


def blocks(text: str) -> Iterator[Block]:
    """The command lines of a page, block by block."""
    status, parsed, anew = (0,), "", False
    made = Block([], [], (), "", False, [], False)
    fenced = False
    for number, line in enumerate(text.splitlines(), 1):
        if hint := _HINT.search(line):
            if made.commands:
                yield made
                made, status, parsed, anew = Block([], [], (), "", False, [], False), (0,), "", False
            if found := re.match(r"status ([\d ]+)", hint[1]):
                status = tuple(map(int, found[1].split()))
            elif hint[1].startswith("parsed: "):
                parsed = hint[1].removeprefix("parsed: ")
            elif hint[1] == "anew":
                anew = True
            continue
        if line.startswith("```"):
            fenced = not fenced
            if made.commands:
                yield made
                made, status, parsed, anew = Block([], [], (), "", False, [], False), (0,), "", False
            continue
        command = _COMMAND.match(line)
        if command and not (fenced and not line.startswith("$ ")):
            if not made.commands:
                made = Block([], [], status, parsed, anew, [], fenced)
            made.commands.append(command[1])
            made.shown.append([])
            made.lines.append(number)
        elif made.commands and fenced:
            made.shown[-1].append(line)
        elif made.commands and not (line.startswith("    ") or not line.strip()):
            yield made
            made, status, parsed, anew = Block([], [], (), "", False, [], False), (0,), "", False
    if made.commands:
        yield made


def parse(command: str) -> None:
    """Reads a command as the program would. Raises UsageError."""
    from wexicon.cli.main import wexicon

    lexer = shlex.shlex(_bare(command), posix=True, punctuation_chars="|;<>")
    lexer.whitespace_split, lexer.commenters = True, ""
    parts: list[list[str]] = [[]]
    for word in lexer:
        parts.append([word] if word[0] in "<>" else []) if word[0] in "|;<>" else parts[-1].append(word)
    for words in parts:
        if not words or words[0] != "wexicon":
            continue
        words, found = words[1:], wexicon
        parent = click.Context(wexicon, info_name="wexicon", **wexicon.context_settings)
        while isinstance(found, click.Group) and words:
            one = found.get_command(parent, words[0])
            if one is None:
                raise click.UsageError(f"there is no command {words[0]}")
            found, words = one, words[1:]
        found.make_context("x", words, parent=parent)


def _bare(command: str) -> str:
    """A command without the comment behind it."""
    return re.sub(r"\s{2,}#.*$", "", command)


class Bench:
    """A folder with the sample, rigs that run, and the ports of the page."""

    def __init__(self, folder: Path, text: str) -> None:
        self.folder = folder
        self._rigs: list[subprocess.Popen[bytes]] = []
        self.ports: dict[str, str] = {}
        longer = _LONGER.search(text)
        self.moment = longer[1] if longer else _MOMENT
        shutil.copytree(SAMPLE, folder, dirs_exist_ok=True)
        programs = folder / "bin"
        programs.mkdir()
        (programs / "wexicon").write_text(f'#!/bin/sh\nexec "{sys.executable}" -m wexicon "$@"\n')
        (programs / "wexicon").chmod(0o755)
        kept = {name: os.environ[name] for name in ("LANG", "LC_ALL", "TMPDIR") if name in os.environ}
        own = {f"WEXICON_{name.upper()}": str(folder / f".{name}") for name in ("state", "run", "config")}
        path = f"{programs}:{os.environ['PATH']}"
        self.env = kept | own | {"PATH": path, "HOME": str(folder), "NO_COLOR": "1"}
        self.env |= {"WEXICON_BENCH": "fit-out-1", "PYTHONUTF8": "1"}
        for name, body in _FILE.findall(text):
            (folder / name).write_text(body)
        for hint in _HINT.findall(text):
            self._prepare(hint)
        for hint in _HINT.findall(text):
            if hint.startswith("first "):
                self.run(hint.removeprefix("first "))

    def _prepare(self, hint: str) -> None:
        rigs, *named = hint.split(";")
        if not rigs.startswith("rig "):
            return
        for file in rigs.split()[1:]:
            self._rigs.append(
                subprocess.Popen(
                    ["wexicon", "rig", "start", file], cwd=self.folder, env=self.env, stdout=subprocess.DEVNULL
                )
            )
            self._served(Path(file).stem)
        units = {one["unit"]: one["port"] for one in self._list()}
        wanted = {key.strip(): units[unit.strip()] for key, _, unit in (one.partition("=") for one in named)}
        self.ports = {key: port for key, port in wanted.items() if key.startswith("/")}
        names = {key: port for key, port in wanted.items() if not key.startswith("/")}
        lines = [f'{json.dumps(name)} = "{port}"\n' for name, port in names.items()]
        config = self.folder / ".config"
        config.mkdir(exist_ok=True)
        (config / "wexicon.toml").write_text("format = 1\n[ports]\n" + "".join(lines))
        # A stand-in takes a while to start, as a module does.
        time.sleep(1.5)

    def _served(self, rig: str) -> None:
        until = time.monotonic() + 20
        while time.monotonic() < until and rig not in {one["rig"] for one in self._list()}:
            time.sleep(0.2)

    def _list(self) -> list[dict[str, str]]:
        ran = subprocess.run(
            ["wexicon", "rig", "ports", "--json"], cwd=self.folder, env=self.env, capture_output=True, check=True
        )
        found: list[dict[str, str]] = json.loads(ran.stdout)
        return found

    def run(self, command: str) -> tuple[int, list[str]]:
        """The exit status of a command, and what it printed, with the ports as the page names them."""
        text = _for_a_moment(_bare(command), self.moment)
        for name, port in sorted(self.ports.items(), reverse=True):
            text = text.replace(name, port)
        text = text.replace("'/dev/ttyUSB*'", " ".join(self.ports.values()))
        ran = subprocess.run(
            ["bash", "-c", text],
            cwd=self.folder,
            env=self.env,
            capture_output=True,
            stdin=subprocess.DEVNULL,
            timeout=300,
        )
        # What a terminal shows while it works is no output; why something failed is.
        printed = (ran.stdout + (ran.stderr if ran.returncode else b"")).decode(errors="replace")
        for name, port in self.ports.items():
            printed = re.sub(rf"{re.escape(port)}(?!\d)", name, printed)
        printed = printed.replace(str(self.folder) + "/", "")
        return ran.returncode, printed.rstrip("\n").splitlines()

    def close(self) -> None:
        """Ends the rigs."""
        for rig in self._rigs:
            rig.terminate()
            rig.wait()


def _for_a_moment(command: str, moment: str) -> str:
    command = re.sub(r"--for \d+\w+", f"--for {moment}", command)
    if re.match(r"wexicon (listen|tap)\b(?!.*--(for|until|rig))", command):
        command += f" --for {moment}"
    if re.match(r"wexicon (ports --watch|units watch|rig start)\b(?!.*--once)", command):
        command = f"timeout -s INT 3 {command} || [ $? = 124 ] || [ $? = 130 ]"
    return command


def run(page: Path) -> Iterator[Ran]:
    """Runs every command of a page, in its order."""
    text = page.read_text()
    elsewhere = any(hint.startswith("page parsed: ") for hint in _HINT.findall(text))
    with ExitStack() as stack:
        bench: Bench | None = None
        for block in blocks(text):
            for command, shown, line in zip(block.commands, block.shown, block.lines, strict=True):
                parse(command)
                if block.parsed or elsewhere:
                    continue
                if block.anew or bench is None:
                    folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
                    bench = Bench(folder, text)
                    stack.callback(bench.close)
                status, printed = bench.run(command)
                yield Ran(command, status, block.status, printed, shown, line, block.fenced)


_MEASURED = (
    (r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d)?", "DATE"),
    (r"\d\d:\d\d:\d\d(\.\d+)?", "TIME"),
    (r"\d+(\.\d+)? ?(ms|s|min|kB|KB|h)\b", "MEASURE"),
    (r"^ +\d+\.\d{3} ", "MEASURE "),
    (r"\d+ (exchanges|tries)", r"N \1"),
    # The steps that took longest stand first.
    (r"^time.*", ""),
    (r"─+", "─"),
    (r"rfc2217://127.0.0.1:\d+|/dev/pts/\d+", "PORT"),
    (r"\s+", " "),
)


def plain(line: str) -> str:
    """A line without what differs from run to run."""
    for pattern, word in _MEASURED:
        line = re.sub(pattern, word, line)
    return line.strip()


def differs(ran: Ran) -> str:
    """What is wrong with a command that was run; empty if nothing is."""
    printed = "\n".join(ran.printed)
    if ran.status not in ran.wanted:
        return f"line {ran.line}: {ran.command}\nstatus {ran.status}, not {ran.wanted}:\n{printed}"
    # What is done at the same time ends in any order.
    told, shown = (Counter(filter(None, map(plain, lines))) for lines in (ran.printed, ran.shown))
    cut = shown.pop("...", 0)
    for line in shown - told:
        return f"line {ran.line}: {ran.command}\nthe page shows: {line}\nit printed:\n{printed}"
    for line in () if cut or not ran.fenced else told - shown:
        return f"line {ran.line}: {ran.command}\nthe page does not show: {line}"
    return ""


def write(page: Path) -> None:
    """Puts what is printed into the page, where it shows outputs that are not cut."""
    lines = page.read_text().splitlines()
    for ran in reversed(list(run(page))):
        if ran.fenced and "..." not in [one.strip() for one in ran.shown]:
            lines[ran.line : ran.line + len(ran.shown)] = ran.printed
    page.write_text("\n".join(lines) + "\n")


def main(words: list[str]) -> int:
    """Runs or writes pages; gives the exit status."""
    named = [Path(word) for word in words if word != "--write"]
    wrong = 0
    for page in named or pages():
        if "--write" in words:
            write(page)
            continue
        for ran in run(page):
            if told := differs(ran):
                wrong += 1
                print(f"{page.name}, {told}\n")
        print(page.name)
    return 1 if wrong else 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
