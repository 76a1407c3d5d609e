"""`lexicon`: list, show, check, new, draft, schema, as the built program."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from tests.conftest import bench, built, clean, virtual, wexicon
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.formats.lexicon.gaps import gaps
from wexicon.core.formats.lexicon.tables import LexiconFile
from wexicon.files import shipped_folder
from wexicon.records.schemas import TITLES
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.drafting.lexicon_draft import kind_of

SHIPPED = sorted(path.stem for path in shipped_folder().glob("*.toml"))


def test_list_and_own_lexicons_go_before_shipped_ones(tmp_path: Path) -> None:
    listed = json.loads(wexicon("lexicon", "list", "--json").stdout)
    assert [one["name"] for one in listed] == SHIPPED and {one["where"] for one in listed} == {"shipped"}
    (tmp_path / "lexicons").mkdir()
    (tmp_path / "lexicons" / "own.toml").write_text('format = 1\nextends = "v250"\n[about]\nfamily = "own"\n')
    assert "own" in wexicon("lexicon", "list").stdout and "yours" in wexicon("lexicon", "list").stdout
    assert "own" in wexicon("lexicon", "show", "own").stdout


@pytest.mark.parametrize("name", ["cellular-3gpp", "fennick-z4", "lindle-r2"])
def test_a_lexicon_shows_as_a_page(name: str) -> None:
    told = wexicon("lexicon", "show", name).stdout
    assert told.startswith(name) and "attention" in told and "takes effect" in told


@pytest.mark.parametrize("name", SHIPPED)
def test_each_shipped_lexicon_has_no_gap_that_is_not_known(name: str) -> None:
    assert gaps(find_lexicon(name)) == [] or name in (
        "tamsel-k6",
        "osier-w2",
        "gnss-nmea",
        "cellular-3gpp",
        "wherry-c3",
        "wherry-c1",
        "skerry-g5",
        "teasel-d3",
        "marram-c2",
        "modbus-rtu",
    )


def test_check_tells_gaps_and_faults() -> None:
    assert (
        "gap: setting.pin: cannot be read back"
        in wexicon("lexicon", "check", str(shipped_folder() / "tamsel-k6.toml")).stdout
    )
    text = (shipped_folder() / "lindle-r2.toml").read_text()
    for old, new, told in (
        ("byte = 5", "byte = 10", "setting.network.place: is outside a block of 10 bytes"),
        ('checksum = "xor"', 'checksum = "crc"', "not one of sum, xor"),
        ('group   = "block"\nplace   = { byte = 5 }', 'group   = "blok"', "did you mean block?"),
        ("5A20{block}", "5A20{blok}", "which is no setting of this group"),
        ("pins      =", "pinns     =", "did you mean pins?"),
        ("format = 1", 'format = 1\nextends = "lindle-l9x"', "there is no lexicon lindle-l9x"),
    ):
        Path("f.toml").write_text(text.replace(old, new))
        assert told in wexicon("lexicon", "check", "f.toml", status=2).stderr, old
    Path("f.toml").write_text('format = 1\nextends = "f"\nwithout = ["setting.x"]\n[about]\nfamily = "f"\n')
    assert "f.toml" in wexicon("lexicon", "check", "f.toml", status=2).stderr


def test_a_lexicon_may_do_without_what_it_extends() -> None:
    Path("f.toml").write_text(
        'format = 1\nextends = "cellular-3gpp"\nwithout = ["setting.apm"]\n[about]\nfamily = "f"\n'
    )
    assert (
        "there is no setting.apm to do without\n    did you mean setting.apn?"
        in wexicon("lexicon", "check", "f.toml", status=2).stderr
    )
    shown = wexicon("lexicon", "show", "cordal-g2").stdout
    assert "apn" in shown and "edrx" not in shown


def test_schema_is_a_json_schema() -> None:
    schema = json.loads(wexicon("lexicon", "schema").stdout)
    assert set(schema["$defs"]["LexiconFile"]["properties"]) == set(LexiconFile.__struct_fields__)
    kinds = schema["$defs"]["SettingTable"]["properties"]["value"]["anyOf"]
    assert {one["$ref"].rpartition("/")[2].lower() for one in kinds} >= {"text", "rate", "timerkind", "tuple"}


def test_every_schema_that_there_is_or_that_the_documentation_names_can_be_printed() -> None:
    root = Path(__file__).parents[2]
    pages = [root / "README.md", *(root / "docs").glob("*.md")]
    named = {kind for page in pages for kind in re.findall(r"`wexicon schema ([a-z]+)", page.read_text())}
    assert {"listening", "event", "trace"} <= named <= set(TITLES)
    for kind, (_, title) in TITLES.items():
        made = json.loads(wexicon("schema", kind).stdout)
        assert "$defs" in made and made["title"] == f"Wexicon: {title}"


def test_new_asks_and_writes_a_lexicon_without_a_fault() -> None:
    answers = ["Own 1", "own-1", "Own", "lora", "19200", "", "escape", "cr", "", "ok", "no {code:int}", "v", "v",
               "{model:word} {serial:word}", "w", "name", "n?", "n={value}", "n={value}", ""]  # fmt: skip
    told = wexicon("lexicon", "new", input="\n".join(answers) + "\n")
    assert "invalid; expected" in told.stderr and "wrote own-1.toml" in told.stdout
    checked = wexicon("lexicon", "check", "own-1.toml").stdout
    assert "no errors; 1 setting, 1 action," in checked
    assert (
        "already exists"
        in wexicon("lexicon", "new", "-o", "own-1.toml", input="\n".join(answers[1:]) + "\n", status=2).stderr
    )


@pytest.mark.parametrize(
    "manner", ["", "pages, colours", "pace,station", "login", "prompt", "list, clock", "login, list"]
)
@pytest.mark.parametrize("answer", ["lines", "json", "frames", "bytes 20ms"])
def test_new_asks_for_frames_and_manners_and_what_it_writes_reads_without_a_fault(answer: str, manner: str) -> None:
    frame = ["C6 3D", "u16le", "crc-16/modbus"] if answer == "frames" else []
    words = {"json": ["ok true", "ok false", 'do "who"'], "lines": ["", "", "AT"]}.get(answer, ["A0", "FF", "10"])
    given = ["own-1", "", "", "", "", "", "lf", answer, *frame, *words, "", "", "", manner]
    told = wexicon("lexicon", "new", input="\n".join(given) + "\n")
    assert "wrote own-1.toml" in told.stdout
    assert "no errors" in wexicon("lexicon", "check", "own-1.toml").stdout
    made = find_lexicon("own-1.toml", Path())
    assert made.dialect.form == answer.split()[0] and bool(made.speech.layers) == (
        ("station" in manner and answer == "lines") or bool(frame)
    )
    if answer == "lines":
        assert ("peers" in made.settings) == ("list" in manner) and ("clock" in made.settings) == ("clock" in manner)
        assert made.speech.colours == ("colours" in manner) and bool(made.speech.more) == ("pages" in manner)
    assert bool(made.attention.locked) == ("login" in manner)


def test_draft_asks_the_module_itself_and_what_it_writes_can_be_used() -> None:
    with virtual('[unit.x]\nstandin = "cordal-g2"\n') as rig:
        port = rig.ports["x"]
        told = wexicon("lexicon", "draft", port, "--family", "asked", "--rate", "9600", "--rate", "115200").stdout
        assert "wrote asked.toml: 115200 8N1, line ending cr;" in told
        text = Path("asked.toml").read_text()
        assert 'error   = ["+CME ERROR: {code:int}", "ERROR"]' in text and "# guessed" in text
        lexicon = read_lexicon(text.encode(), "asked.toml")
        assert {"cmee", "cmgf", "cscs"} <= set(lexicon.settings)
        assert lexicon.must == {"model": "CORDAL-G2"}
        read = json.loads(wexicon("readout", port, "-l", "asked.toml", "--json").stdout)
        assert {line["name"]: line["before"]["shown"] for line in read["settings"]}["cscs"] == "GSM"
    assert "nothing answers AT" in _silent_draft()


def _silent_draft() -> str:
    with bench('[unit.x]\nstandin = "lindle-l9"\n') as rig:
        return wexicon("lexicon", "draft", rig.ports["x"], "--rate", "9600", status=3).stderr


@pytest.mark.parametrize(
    ("ranges", "value", "kind"),
    [
        ("(0,1)", "1", '{ kind = "int", min = 0, max = 1 }'),
        ("(0-31,99)", "7", '{ kind = "int", min = 0, max = 99, holes = [[32, 98]] }'),
        ('("GSM","UCS2")', '"GSM"', '{ kind = "choice", codes = { "GSM" = "GSM", "UCS2" = "UCS2" } }'),
        ("(0,1),(0-3)", "1,2", None),
        ("", "1", None),
        ("(a-b)", "1", None),
    ],
)
def test_kinds_from_ranges(ranges: str, value: str, kind: str | None) -> None:
    assert kind_of(ranges, value) == kind


def test_a_package_may_bring_lexicons(tmp_path: Path) -> None:
    """By an entry point of the group wexicon.lexicons that names a package with TOML files in it."""
    site = tmp_path / "site"
    (site / "brought").mkdir(parents=True)
    (site / "brought" / "__init__.py").touch()
    (site / "brought" / "brought-m1.toml").write_text('format = 1\nextends = "v250"\n[about]\nfamily = "brought-m1"\n')
    info = site / "brought-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: brought\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text("[wexicon.lexicons]\nbrought = brought\nbroken = nowhere\n")
    environment = clean({"PYTHONPATH": str(site)})
    assert "brought-m1" in built("lexicon", "list", env=environment).stdout
    assert built("lexicon", "show", "brought-m1", env=environment).stdout.startswith("brought-m1")
