"""The layers are as docs/architecture.md says, and its picture is drawn from the code as it is."""

from __future__ import annotations

import ast
import re
import runpy
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parents[2]
LAYERS: dict[str, Any] = runpy.run_path(str(ROOT / "docs" / "draw_layers.py"))


def test_imports_point_downwards_only() -> None:
    assert LAYERS["upward"]() == []


def test_no_file_is_part_of_a_circle() -> None:
    assert LAYERS["circles"]() == []


def test_the_picture_is_of_the_code_as_it_is() -> None:
    assert (ROOT / "docs" / "layers.svg").read_text() == LAYERS["picture"](), "python docs/draw_layers.py draws it anew"


FORBIDDEN = {"click", "rich", "os", "time", "socket", "serial", "threading", "select", "termios"}


def test_the_core_opens_prints_sleeps_and_asks_nothing() -> None:
    for path in (ROOT / "src" / "wexicon" / "core").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            names = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            assert FORBIDDEN.isdisjoint(name.partition(".")[0] for name in names), path
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                assert node.func.id not in ("open", "print", "input"), path


def test_a_rig_knows_no_lexicon_and_nobody_reaches_into_another_ones_engine() -> None:
    for module, others in LAYERS["imports"]().items():
        if module.startswith("wexicon.rigs"):
            assert not [other for other in others if ".formats.lexicon" in other], module
    for path in (ROOT / "src" / "wexicon").rglob("*.py"):
        if path.name not in ("session.py", "driver.py"):
            assert "._engine" not in path.read_text(), path


def test_what_only_some_systems_have_is_in_one_file() -> None:
    names = "termios|tty|pty|fcntl|pwd|grp|resource|msvcrt|winreg|_winapi|ctypes"
    uses = re.compile(
        rf"^ *(import|from) ({names})\b|os[.](getuid|fork|uname|openpty|major)\b|AF_UNIX|pthread_kill|[.]poll\(\)", re.M
    )
    found = {path.name for path in (ROOT / "src" / "wexicon").rglob("*.py") if uses.search(path.read_text())}
    assert found == {"system.py"}


# What writes to a terminal or asks on it, and the one file that may.
SINKS = {"click.echo": "show.py", "click.prompt": "show.py", "sys.stdout.write": "console.py"}
PRINTERS = {"print", "input", "click.echo", "click.secho", "click.prompt", "click.confirm", "getpass.getpass"}


def test_nothing_but_the_sinks_prints_or_asks_and_they_escape() -> None:
    for path in (ROOT / "src" / "wexicon").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call):
                continue
            called, given = ast.unparse(node.func), [ast.unparse(one) for one in node.args]
            if called in PRINTERS or called in ("sys.stdout.write", "sys.stderr.write"):
                assert SINKS.get(called) == path.name, f"{path}: {called}"
            if called == "Text.from_ansi":
                assert given[0].startswith("harmless("), f"{path}: {given[0]}"
