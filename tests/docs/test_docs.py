"""What the pages say is so: the table of manners, the examples of each, the walk from a datasheet to a lexicon."""

from __future__ import annotations

import ast
import json
import re
import runpy
import shlex
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import bench, virtual, wexicon
from wexicon.core.agenda import Agenda
from wexicon.core.formats.fixture import read_fixture, read_settings
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.formats.lexicon.tables import LexiconFile
from wexicon.core.values import KINDS
from wexicon.rigs.rig import read_rig
from wexicon.rigs.standins import FAMILIES
from wexicon.work.contact.catalog import shipped_folder

ROOT = Path(__file__).parents[2]
DOCS = ROOT / "docs"
ROWS = [
    [cell.strip() for cell in line.strip("|").split("|")]
    for line in (DOCS / "manners.md").read_text().splitlines()
    if re.match(r"\| \d+ \|", line)
]
EXAMPLES = re.findall(r"### (\d+)\. [^\n]+\n\n```toml\n(.*?)```", (DOCS / "lexicon.md").read_text(), re.DOTALL)
STEPS, FRAMED = (
    re.findall(r"```toml (\S+)\n(.*?)```", (DOCS / f"from-datasheet-to-lexicon{page}.md").read_text(), re.DOTALL)
    for page in ("", "-frames")
)
BASE = 'format = 1\n[about]\nfamily = "example"\n'


def _keys(kind: Any) -> set[str]:
    from wexicon.core.formats.toml import names_of

    return names_of(kind)


def test_the_table_of_manners_has_no_empty_cell_and_tells_the_truth() -> None:
    assert [int(row[0]) for row in ROWS] == list(range(1, 86))
    known = {key for kind in (LexiconFile, *KINDS.values()) for key in _keys(kind)} | {"events", "errors", "pin"}
    for number, manner, key, standin, test in ROWS:
        assert manner and key and standin and test, number
        name = re.match(r"\[([a-z0-9-]+)\]\((stand-ins/[a-z0-9-]+\.md)\)", standin)
        assert name and name[1] in FAMILIES and (DOCS / name[2]).is_file(), number
        path, _, function = test.strip("`").partition("::")
        tree = ast.parse((ROOT / path).read_text())
        assert function in {node.name for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)}, test
        words = re.findall(r"[a-z_]+\.([a-z_]+)", key)
        assert all(word in known for word in words if word not in ("kind",)), key
    shown = {re.match(r"\[([a-z0-9-]+)\]", row[3])[1] for row in ROWS}  # type: ignore[index]
    assert shown == set(FAMILIES) - {"recording"}


@pytest.mark.parametrize(("number", "text"), EXAMPLES, ids=[number for number, _ in EXAMPLES])
def test_each_manners_example_is_a_lexicon_without_a_fault(number: str, text: str) -> None:
    head = BASE if "[about]" not in text else ""
    read_lexicon(
        (head + text).encode(), f"manner-{number}.toml", lambda name: (shipped_folder() / f"{name}.toml").read_bytes()
    )


def test_the_list_of_keys_is_made_from_the_code_as_it_is() -> None:
    written = runpy.run_path(str(DOCS / "write_keys.py"))["page"]()
    assert (DOCS / "keys.md").read_text() == written, "python docs/write_keys.py writes it anew"


def test_the_page_tells_all_that_hail_may_say_and_every_console_command() -> None:
    written = runpy.run_path(str(DOCS / "write_api.py"))["page"]()
    assert (DOCS / "api.md").read_text() == written, "python docs/write_api.py writes it anew"
    written = runpy.run_path(str(DOCS / "write_hail.py"))["page"]()
    assert (DOCS / "hail.md").read_text() == written, "python docs/write_hail.py writes it anew"
    written = runpy.run_path(str(DOCS / "write_commands.py"))["page"]()
    assert (DOCS / "commands.md").read_text() == written, "python docs/write_commands.py writes it anew"
    from wexicon.work.console.completion import COMMANDS

    text = (DOCS / "look.md").read_text()
    assert not [name for name in COMMANDS if f":{name}" not in text]


def test_the_sheet_of_the_guide_is_one(tmp_path: Path) -> None:
    text = re.findall(r"```toml sheet\n(.*?)```", (DOCS / "sheet.md").read_text(), re.DOTALL)[0]
    Path("s.toml").write_text(text)
    Path("withy-plug.pin").write_text("48213")
    assert "conforms" in wexicon("rehearse", "s.toml").stdout
    assert wexicon("lexicon", "folder").stdout.strip() == str(tmp_path / "lexicons")


def test_there_is_an_example_of_each_manner() -> None:
    assert sorted(int(number) for number, _ in EXAMPLES) == list(range(1, 86))


def test_the_walk_from_a_datasheet_can_be_read_after_each_step_and_provisions_at_its_end() -> None:
    lexicon = ""
    for name, text in STEPS:
        if name == "sheet":
            Path("mast.toml").write_text(text)
            continue
        lexicon += text + "\n"
        Path("my-l9.toml").write_text(lexicon)
        assert "no errors" in wexicon("lexicon", "check", "my-l9.toml").stdout, name
    assert "0 gaps" in wexicon("lexicon", "check", "my-l9.toml").stdout
    with bench('[unit.mast]\nstandin = "lindle-l9"\n') as rig:
        port = rig.ports["mast"]
        words = ("provision", "mast.toml", port, "--operator", "rig", "--json")
        report = json.loads(wexicon(*words).stdout)
        assert report["verdict"] == "conforms" and report["written"] == 3
        wexicon("rig", "power", "mast", "cycle")
        assert "conforms" in wexicon("verify", "mast.toml", port).stdout
        Path("send.wex").write_text("needs to int\nneeds text\ndo send\n")
        wexicon("run", "send.wex", port, "to=1", "text=tide", "-l", "my-l9", "--rate", "115200")


def test_the_walk_to_a_lexicon_of_frames_does_too() -> None:
    lexicon = ""
    for name, text in FRAMED:
        if name == "sheet":
            Path("buoy.toml").write_text(text)
            continue
        lexicon += text + "\n"
        Path("my-f2.toml").write_text(lexicon)
        assert "no errors" in wexicon("lexicon", "check", "my-f2.toml").stdout, name
    assert "0 gaps" in wexicon("lexicon", "check", "my-f2.toml").stdout
    with virtual('[unit.buoy]\nstandin = "samphire-f2"\n') as rig:
        port = rig.ports["buoy"]
        report = json.loads(wexicon("provision", "buoy.toml", port, "--operator", "rig", "--json").stdout)
        assert report["verdict"] == "conforms" and report["evidence"] == "power-cycle"
        assert "conforms" in wexicon("verify", "buoy.toml", port).stdout
        assert "conforms" in wexicon("rehearse", "buoy.toml", "--standin", "samphire-f2").stdout
        assert "my-f2" in wexicon("hail", port, "--lexicon", "my-f2.toml").stdout
    found = wexicon("calc", "find", "hex=C6 3D 01 01 00 10 12 17").stdout
    assert "fletcher-8" in found


def test_every_command_of_the_page_on_other_modules_works() -> None:
    text = (DOCS / "other-kinds-of-modules.md").read_text()
    for name, body in re.findall(r"```(?:toml|csv) (\S+)\n(.*?)```", text, re.DOTALL):
        Path("rig.toml" if name == "rig" else name).write_text(body)
    commands = re.findall(
        r"^    (wexicon [^#\n]*(?:#\d[^#\n]*)*)|^```text talk (\S+)\n(.*?)```", text, re.MULTILINE | re.DOTALL
    )
    ran = 0
    with bench(Path("rig.toml").read_text().partition("\n")[2]):
        for command, port, typed in commands:
            if port:
                told = wexicon("talk", port, input=typed).stdout
                assert all(line in told for line in typed.splitlines())
                continue
            words = shlex.split(command)[1:]
            if words[0] != "rig":
                told = wexicon(*words).stdout
                assert "conform" in told or words[0] not in ("set", "provision", "verify", "rehearse"), command
                ran += 1
    assert ran >= 20


def test_the_index_of_manners_has_all_of_them_and_leads_to_each() -> None:
    text = (DOCS / "my-module-does-this.md").read_text()
    found = re.findall(r"\[(\d+)\]\(lexicon\.md#([a-z0-9-]+)\)", text)
    heads = dict(re.findall(r"### (\d+)\. ([^\n]+)", (DOCS / "lexicon.md").read_text()))
    for number, anchor in found:
        assert anchor == re.sub(r"[^a-z0-9 -]", "", f"{number}. {heads[number]}".lower()).replace(" ", "-")
    assert sorted(int(number) for number, _ in found) == list(range(1, 86))


@pytest.mark.long
def test_the_guide_is_a_site_without_a_broken_link(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "mkdocs", "build", "--quiet", "--config-file", str(ROOT / "mkdocs.yml")]
    ran = subprocess.run([*words, "--site-dir", str(tmp_path / "site")], capture_output=True, text=True, timeout=120)
    assert ran.returncode == 0, ran.stdout + ran.stderr
    assert "Start here" in (tmp_path / "site" / "index.html").read_text()


def test_the_settings_of_the_page_are_all_there_are() -> None:
    text = re.search(r"```toml\n(format.*?)```", (DOCS / "environment.md").read_text(), re.DOTALL)
    assert text
    made = read_settings(text[1].encode(), "wexicon.toml")
    assert all(getattr(made, name) for name in made.__struct_fields__) and made.report.title


def test_every_link_of_the_pages_leads_somewhere() -> None:
    for page in [ROOT / "README.md", *DOCS.rglob("*.md")]:
        for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / link).exists(), f"{page.name}: {link}"


def test_the_rig_and_the_fixture_of_the_page_can_be_read() -> None:
    text = dict(re.findall(r"```toml (\S+)\n(.*?)```", (DOCS / "rig.md").read_text(), re.DOTALL))
    made = read_rig(text["rig"].encode(), "rig.md", Agenda())
    assert made.units["plug"].standin.wiring == {"dtr": "service", "rts": "!power"}
    assert made.air.management.reads == ("/3/0/0",) and made.air.services["tides.harbour.example"] == "echo"
    assert read_fixture(text["fixture"].encode(), "rig.md").has(["key", "power", "dtr"])
