"""The register: each record once, whoever is interrupted and whatever is away; what was done before is known."""

from __future__ import annotations

import csv
import json
import shutil
import sqlite3
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sql
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext

from tests.conftest import SAMPLE, clean, virtual, wexicon
from wexicon.core.faults import CallFault, Fault
from wexicon.core.results.result import Outcome
from wexicon.core.results.unit import SettingResult, Shown, Unfinished
from wexicon.records.database import META
from wexicon.records.entry import Entry, RecordedResult
from wexicon.records.register import Register
from wexicon.work.provisioning.unfinished import RegisterStore

RADIOS = "".join(
    f'[unit.radio-{n}]\nstandin = "lindle-l9"\nidentity = {{ serial = "L9-0061{n}" }}\n' for n in (1, 2, 3, 4)
)


def entry(unit: str = "lindle-l9 L9-1", verdict: str = "conforms", name: str = "mast M1", **more: str) -> Entry:
    row, result = {"mast": "M1"}, RecordedResult()
    return Entry(unit, name, "lindle-l9", "provision", verdict, "restart", "spring", "ab" * 32, row, result, **more)


def test_what_waits_goes_in_once_when_the_database_is_back(tmp_path: Path) -> None:
    place = tmp_path / "server" / "units.db"
    place.parent.write_text("a file, where a folder should be")
    away = Register(str(place), tmp_path / "waiting")
    assert not away.keep(entry()) and not away.keep(entry(verdict="failed"))
    with pytest.raises(Fault, match="the register cannot be reached"):
        away.flush_pending()
    # What waits for one register does not go into another.
    assert Register(str(tmp_path / "other.db"), tmp_path / "waiting").flush_pending() == 0
    place.parent.unlink()
    here = Register(str(place), tmp_path / "waiting")
    kept = next((tmp_path / "waiting").rglob("*.json"))
    copy = kept.read_bytes()
    assert here.flush_pending() == 2 and here.flush_pending() == 0
    kept.write_bytes(copy)  # as if the tool had died before it took the file away
    assert here.flush_pending() == 1 and len(here.history("L9-1")) == 2
    assert [one.verdict for one in here.latest()] == [here.history("L9-1")[-1].verdict]


def test_many_processes_write_to_one_file_and_lose_nothing(tmp_path: Path) -> None:
    program = (
        "import sys; from pathlib import Path\n"
        "from wexicon.records.entry import Entry, RecordedResult; from wexicon.records.register import Register\n"
        "entry = lambda unit: Entry(unit, 'x', 'lindle-l9', 'provision', 'conforms', '', '', '', {}, RecordedResult())\n"
        "one = Register(sys.argv[1], Path(sys.argv[2]))\n"
        "for n in range(25): assert one.keep(entry(f'lindle-l9 {sys.argv[3]}-{n}'))\n"
    )
    words = [sys.executable, "-c", program, str(tmp_path / "units.db")]
    root = Path(__file__).parents[2]
    running = [subprocess.Popen([*words, str(tmp_path / f"w{n}"), str(n)], cwd=root, env=clean({})) for n in range(4)]
    assert [one.wait(60) for one in running] == [0, 0, 0, 0]
    assert len(list(Register(str(tmp_path / "units.db"), tmp_path / "w").latest())) == 100


def test_a_register_of_another_version_or_kind_is_refused(tmp_path: Path) -> None:
    made = Register(str(tmp_path / "units.db"), tmp_path / "w")
    made.keep(entry())
    with sqlite3.connect(tmp_path / "units.db") as file:
        assert file.execute("pragma journal_mode").fetchone() == ("wal",)
        file.execute("update wexicon_version set version_num = 9")
    with pytest.raises(CallFault, match="has version 9, and 4 is known"):
        list(Register(str(tmp_path / "units.db"), tmp_path / "w2").latest())
    with pytest.raises(CallFault, match="cannot be a register"):
        list(Register("nosql://here", tmp_path / "w2").latest())
    (tmp_path / "text.db").write_text("this is no database, but a text that is long enough to be taken for one" * 20)
    with pytest.raises(Fault, match="it is no register, or it is damaged"):
        list(Register(str(tmp_path / "text.db"), tmp_path / "w2").latest())


def test_the_first_versions_register_is_brought_up_to_date_and_keeps_its_records(tmp_path: Path) -> None:
    path = tmp_path / "units.db"
    made = Register(str(path), tmp_path / "w")
    made.keep(entry("lindle-l9 L9-3"))
    made.database.close()
    with sqlite3.connect(path) as file:
        # As the first version left it.
        for table in ("run", "task", "series", "drawn", "unfinished", "progress", "version"):
            file.execute(f"drop table wexicon_{table}")
        file.execute("alter table wexicon_record drop column task")
        file.execute("create table wexicon_register (version integer not null)")
        file.execute("insert into wexicon_register values (1)")
    words = [sys.executable, "-m", "wexicon", "units", "list", "--register", str(path)]
    running = [subprocess.Popen(words, stdout=subprocess.PIPE, text=True, env=clean({})) for _ in range(3)]
    assert ["L9-3" in one.communicate()[0] for one in running] == [True] * 3
    again = Register(str(path), tmp_path / "w")
    assert [one.unit for one in again.history("L9-3")] == ["lindle-l9 L9-3"] and again.all_unfinished() == []
    with again.database.reading() as connection:
        difference = compare_metadata(MigrationContext.configure(connection), META)
    assert [one for one in difference if "wexicon_version" not in str(one)] == []


def test_units_are_listed_shown_exported_and_not_made_twice(tmp_path: Path) -> None:
    for name in ("masts.toml", "masts.csv", "mast-heard.wex"):
        shutil.copy(SAMPLE / name, tmp_path)
    with virtual(RADIOS) as rig:
        wexicon("provision", "masts.toml", "radio-*")
        listed = json.loads(wexicon("units", "list", "--json", "--verdict", "conforms").stdout)
        assert {one["name"]: one["unit"] for one in listed}["mast M2"] == "lindle-l9 L9-00613"
        # In another order each module is what it was.
        moved = json.loads(
            wexicon("provision", "masts.toml", "radio-2", "radio-1", "radio-4", "radio-3", "--json").stdout
        )
        assert [one["identity"]["serial"] for one in moved] == ["L9-00611", "L9-00612", "L9-00613", "L9-00614"]
        assert {one["written"] for one in moved} == {0}
        # A port that is named for a seat keeps to it.
        named = wexicon("provision", "masts.toml", "relay=radio-2", "radio-1", "radio-3", "radio-4", status=1)
        assert "2 of 4 conform, 2 failed" in named.stdout and "module already provisioned as relay of" in named.stderr
        wrong = wexicon("provision", "masts.toml", "radio-2", "--row", "M3", status=1)
        assert "module already provisioned as mast M1 of “Marrow Estuary" in wrong.stderr
        # With more ports than units, a module that is another unit is passed over.
        found = json.loads(
            wexicon("provision", "masts.toml", "radio-2", "radio-3", "radio-4", "--row", "M3", "--json").stdout
        )
        assert [(one["identity"]["serial"], one["written"]) for one in found] == [("L9-00614", 0)]
        assert rig.rig.units["radio-2"].standin.flash["addr"] == 11
        rig.call(lambda: rig.rig.units["radio-2"].standin.another(10))
        wrong = wexicon("provision", "masts.toml", "radio-2", "--row", "M3", status=1)
        assert "mast M3 is lindle-l9 L9-00614, on" in wrong.stderr  # another module would be a second M3
        rig.call(lambda: rig.rig.units["radio-2"].standin.another(-10))
        wexicon("provision", "masts.toml", "radio-2", "--row", "M1")
        assert "4 already done; 0 to do" in wexicon("provision", "masts.toml", "radio-1", "--resume").stderr
        again = wexicon("provision", "masts.toml", "radio-2", "radio-1", "radio-3", "radio-4", "--again")
        assert "4 of 4 conform" in again.stdout and rig.rig.units["radio-2"].standin.flash["addr"] == 1
    shown = wexicon("units", "show", "L9-00612").stdout
    assert "relay of “Marrow Estuary" in shown and shown.count("provision") == 4
    wexicon("units", "export", "-o", "units.csv")
    rows = list(csv.DictReader(Path("units.csv").read_text().splitlines()))
    assert {row["module"]: row["address"] for row in rows}["lindle-l9 L9-00612"] == "1" and len(rows) == 4
    assert "the register has no unit L9-9" in wexicon("units", "show", "L9-9", status=2).stderr


def test_a_register_that_is_away_stops_no_unit(tmp_path: Path) -> None:
    for name in ("masts.toml", "masts.csv", "mast-heard.wex"):
        shutil.copy(SAMPLE / name, tmp_path)
    one = '[seat.radio]\nlexicon = "lindle-l9"\nsettings = { network = 6 }\n'
    Path("one.toml").write_text(f"format = 1\n{one}")
    away = clean({"WEXICON_REGISTER": "/proc/nowhere/x.db"})
    with virtual(RADIOS):
        done = wexicon("provision", "one.toml", "radio-4", env=away)
        assert "conforms" in done.stdout and "queued on disk" in done.stderr
        # Units of a table are claimed first.
        refused = wexicon("provision", "masts.toml", "radio-*", env=away, status=3)
        assert "Nothing was changed: each unit of a table is claimed" in refused.stderr
    (tmp_path / "state" / "waiting").rename(tmp_path / "state" / "kept")
    (tmp_path / "state" / "waiting").write_text("a file, where a folder should be")
    with virtual(RADIOS):
        done = wexicon("provision", "masts.toml", "radio-1", "--row", "M1")
    assert "conforms: 5 changed" in done.stdout and "could not be recorded" in done.stderr
    (tmp_path / "state" / "waiting").unlink()
    (tmp_path / "state" / "kept").rename(tmp_path / "state" / "waiting")
    assert json.loads(wexicon("units", "list", "--json").stdout) == []  # it waits for the other register
    wrong = wexicon("provision", "masts.toml", "/dev/null", "--row", "M1", "--register", "nosql://x", status=2)
    assert "this database cannot be a register" in wrong.stderr  # before the port is opened


def test_what_must_differ_is_compared_with_what_the_register_has_of_the_sheets_other_units(tmp_path: Path) -> None:
    for name in ("masts.toml", "masts.csv", "mast-heard.wex"):
        shutil.copy(SAMPLE / name, tmp_path)
    with virtual(RADIOS) as rig:
        wexicon("provision", "masts.toml", "radio-1", "radio-2", "radio-3", "radio-4")
        # The next lot has an address of the first, and only that.
        Path("masts.csv").write_text("mast,station,address\nM4,Far Sands,0014\nM5,Long Reach,0012\n")
        rig.call(lambda: [rig.rig.units[f"radio-{n}"].standin.another(10) for n in (2, 3)])
        wrong = wexicon("provision", "masts.toml", "radio-2", "radio-3", "--seat", "mast", status=2).stderr
        assert (
            "address 12 of mast M5 is already used by mast M2, lindle-l9 L9-00613, on 20" in wrong and "M4" not in wrong
        )
        assert rig.rig.units["radio-2"].standin.flash["addr"] == 0
        Path("masts.csv").write_text("mast,station,address\nM4,Far Sands,0014\nM5,Long Reach,0015\n")
        assert "2 of 2 conform" in wexicon("provision", "masts.toml", "radio-2", "radio-3", "--seat", "mast").stdout


def test_work_that_was_begun_is_known_on_every_bench_and_listed(tmp_path: Path) -> None:
    register = Register(str(tmp_path / "units.db"), tmp_path / "w")
    left, right = (
        RegisterStore(tmp_path / "left", lambda: register),
        RegisterStore(tmp_path / "right", lambda: register),
    )
    left.open(Unfinished("lindle-l9 L9-5", datetime.now(UTC), ["address"]))
    assert (found := right.find("lindle-l9 L9-5")) and found.settings == ["address"] and found.bench == register.bench
    assert "unfinished: lindle-l9 L9-5" in wexicon("units", "list", "--register", "units.db").stdout
    right.close("lindle-l9 L9-5")
    assert left.find("lindle-l9 L9-5") is None  # another bench has finished it
    left.open(Unfinished("lindle-l9 L9-6", datetime.now(UTC), ["name"]))
    # Seen through while the register is away: the register hears of it later.
    away = RegisterStore(tmp_path / "left", lambda: Register("/proc/nowhere/x.db", tmp_path / "w"))
    away.close("lindle-l9 L9-6")
    assert away.find("lindle-l9 L9-6") is None and register.unfinished("lindle-l9 L9-6")
    assert left.find("lindle-l9 L9-6") is None and not register.unfinished("lindle-l9 L9-6")
    away.open(Unfinished("lindle-l9 L9-7", datetime.now(UTC), ["name"]))
    assert away.find("lindle-l9 L9-7") and left.find("lindle-l9 L9-7")


def test_labels_have_the_size_that_was_asked_for_and_a_code_that_holds_the_unit(tmp_path: Path) -> None:
    import segno
    from matplotlib.image import imread

    register = Register(str(tmp_path / "units.db"), tmp_path / "w")
    for number in (1, 2, 3):
        register.keep(entry(f"lindle-l9 L9-0061{number}", name=f"mast $M{number}$"))
    words = ("units", "label", "--register", "units.db")
    wexicon(*words, "-o", "one.png", "--size", "60x30", "--page", "label", "--unit", "L9-00612")
    dots = imread("one.png")[:, :, 0]
    assert dots.shape == (354, 708)  # 30 x 60 mm at 300 dots an inch
    code = segno.make("lindle-l9 L9-00612", error="m", micro=False).matrix
    square = 354 / (len(code) + 8)
    read = [
        [dots[int((y + 4.5) * square), int((x + 4.5) * square)] < 0.5 for x in range(len(code))]
        for y in range(len(code))
    ]
    assert read == [[bool(one) for one in row] for row in code]
    wexicon(*words, "-o", "all.pdf", "--size", "60x30", "--page", "80x50")
    pages = Path("all.pdf").read_bytes()
    assert pages.count(b"/Type /Page ") == 3 and b"/MediaBox [ 0 0 226.77" in pages
    assert (
        "all-2.svg, all-3.svg: 3 labels"
        in wexicon(*words, "-o", "all.svg", "--size", "60x30", "--page", "80x50").stdout
    )
    assert "already exists; nothing was written" in wexicon(*words, "-o", "all.pdf", status=2).stderr
    for wrong, fault in (
        ("12x10", "0.3 mm is the least"),
        ("300x20", "does not fit a page"),
        ("big", "is not a size such"),
    ):
        assert fault in wexicon(*words, "-o", "no.png", "--size", wrong, status=2).stderr


def test_verify_tells_which_units_are_no_longer_as_they_were_left(tmp_path: Path) -> None:
    for name in ("masts.toml", "masts.csv", "mast-heard.wex"):
        shutil.copy(SAMPLE / name, tmp_path)
    ports = ("radio-3", "radio-1", "radio-4", "radio-2")
    with virtual(RADIOS) as rig:
        wexicon("provision", "masts.toml", "radio-1", "radio-2", "radio-3", "radio-4")
        # Each module is compared with its own row, in whatever order the ports are named.
        assert "4 of 4 conform" in wexicon("verify", "masts.toml", *ports).stdout
        third = rig.rig.units["radio-3"].standin
        rig.call(lambda: (third.flash.update(peer=9), third.memory.update(peer=9)))
        told = json.loads(wexicon("verify", "masts.toml", *ports, "--json", status=1).stdout)
        remarks = {one["seat"]: one["remarks"] for one in told}
        assert remarks["relay"] == [] and "changed since" in remarks["mast M2"][0]
        assert remarks["mast M2"][0].endswith("peer: 1 then, 9 now")
        sheet = Path("masts.toml").read_text()
        Path("masts.toml").write_text(sheet.replace("868.3", "868.5"))
        words = ("verify", "masts.toml", "radio-1", "--seat", "relay")
        assert "the sheet was changed since this module was made by it" in wexicon(*words, status=1).stdout
    plug = '[unit.plug]\nstandin = "tamsel-k6"\n'
    Path("plug.toml").write_text(
        'format = 1\n[seat.plug]\nlexicon = "tamsel-k6"\nsettings = { name = "quay", pin = { env = "PIN" } }\n'
    )
    with virtual(plug):
        secret = clean({"PIN": "4821"})
        words = ("plug.toml", "plug", "--operator", "rig")
        assert "no finished provisioning of this" in wexicon("verify", *words, env=secret, status=1).stdout
        wexicon("provision", *words, env=secret, status=4)
        known = wexicon("verify", *words, env=secret, status=4).stdout
        assert "unverified (the register: acknowledged on" in known and "4821" not in known


BAG = """format = 1
title = "a bag"
[drawn.address]
first = 40
last = 41
[seat.radio]
lexicon = "lindle-l9"
settings = { address = "{drawn.address}", network = 6 }
"""


def test_without_a_table_each_module_draws_its_own_number_and_verify_draws_none(tmp_path: Path) -> None:
    Path("bag.toml").write_text(BAG)
    with virtual(RADIOS) as rig:
        none = wexicon("verify", "bag.toml", "radio-2", status=2).stderr
        assert "lindle-l9 L9-00612 has no number of a bag: address yet" in none
        for port in ("radio-1", "radio-2", "radio-1"):
            wexicon("provision", "bag.toml", port)
        assert [rig.rig.units[f"radio-{n}"].standin.flash["addr"] for n in (1, 2)] == [40, 41]
        assert "conforms" in wexicon("verify", "bag.toml", "radio-2").stdout
        full = wexicon("provision", "bag.toml", "radio-3", status=2).stderr
        assert "all numbers of a bag: address are drawn, 40 to 41" in full
        assert rig.rig.units["radio-3"].standin.flash["addr"] == 0
        # Another sheet, and more numbers: none was used up.
        Path("bag.toml").write_text(BAG.replace("41", "60"))
        wexicon("provision", "bag.toml", "radio-4")
        assert rig.rig.units["radio-4"].standin.flash["addr"] == 42


def test_a_module_that_became_another_unit_since_is_no_longer_the_first(tmp_path: Path) -> None:
    register = Register(str(tmp_path / "units.db"), tmp_path / "waiting")
    register.keep(entry(at="2026-03-02T10:00:00.000+00:00"))
    found = register.last_provisioned(sheet="spring", name="mast M1")
    assert found and found.unit == "lindle-l9 L9-1"
    register.keep(entry(name="mast M2", at="2026-03-02T11:00:00.000+00:00"))
    assert register.last_provisioned(sheet="spring", name="mast M1") is None


@pytest.mark.parametrize("damage", [b"CREATE TABL\xff", b"\xff\xfe\xfd\xfc\xfb\xfa\xf9 wexicon_rec\xff"])
def test_a_damaged_register_is_named(damage: bytes, tmp_path: Path) -> None:
    path = tmp_path / "units.db"
    register = Register(str(path), tmp_path / "waiting")
    register.keep(entry())
    register.database.close()
    data = path.read_bytes()
    at = data.index(b"CREATE TABLE wexicon_record")
    path.write_bytes(data[:at] + damage + data[at + len(damage) :])
    told = wexicon("units", "list", "--register", str(path), status=2).stderr
    assert f"{path}: it is no register, or it is damaged" in told and "Restore a copy of it" in told


def test_a_large_register_is_listed_from_the_newest_on_and_read_as_it_is_printed(tmp_path: Path) -> None:
    where = str(tmp_path / "units.db")
    register = Register(where, tmp_path / "waiting")
    times = {number: datetime.fromtimestamp(1_770_000_000 + number, UTC).isoformat() for number in range(450)}
    many = [entry(f"lindle-l9 L9-{number % 150}", name=f"mast {number}", at=at) for number, at in times.items()]
    register.database.write(lambda connection: register._insert(connection, many))
    table = wexicon("units", "list", "--register", where).stdout.splitlines()
    assert table[2].split()[:4] == ["lindle-l9", "L9-149", "mast", "449"] and len(table) == 2 + 100 + 1
    assert table[-1] == "only the newest 100 units are listed; --limit 0 lists all"
    assert len(wexicon("units", "list", "--limit", "0", "--register", where).stdout.splitlines()) == 2 + 150
    text = wexicon("units", "list", "--limit", "3", "--json", "--register", where).stdout
    assert [one["name"] for one in json.loads(text)] == ["mast 449", "mast 448", "mast 447"]
    assert text == json.dumps(json.loads(text), indent=2, ensure_ascii=False) + "\n"
    assert wexicon("units", "list", "--sheet", "none", "--json", "--register", where).stdout == "[]\n"
    with sqlite3.connect(where) as connection:
        connection.execute("update wexicon_record set result = '{' where name = 'mast 448'")
    told = wexicon("units", "list", "--register", where)
    assert "1 record cannot be read" in told.stderr and told.stdout.splitlines()[-1] == table[-1]
    # One is made at a time: a reader that has enough of them costs no more than it took.
    one = register.latest()
    assert next(one).name == "mast 449"
    one.close()  # type: ignore[attr-defined]
    wexicon("units", "export", "-o", "u.csv", "--register", where)
    assert len(list(csv.DictReader(Path("u.csv").read_text().splitlines()))) == 149


def test_one_record_that_is_refused_stops_no_other(tmp_path: Path) -> None:
    register = Register(str(tmp_path / "units.db"), tmp_path / "waiting")
    long = "x" * 5000
    assert register.keep(entry(f"lindle-l9 {long}", name=long))
    assert register.keep(entry("lindle-l9 L9-2"))
    [first, second] = sorted(register.latest(), key=lambda one: len(one.unit), reverse=True)
    assert len(first.unit) <= 200 and len(first.name) <= 200 and "~" in first.unit and second.unit == "lindle-l9 L9-2"
    # A record that the database takes in no form.
    insert = register._insert_one

    def refuse(connection: Any, one: Entry) -> None:
        if one.name == "bad":
            raise sql.exc.DataError("insert", {}, ValueError("value too long"))
        insert(connection, one)

    register._insert_one = refuse  # type: ignore[method-assign]
    with pytest.raises(CallFault, match="the register refused this record") as fault:
        register.keep(entry("lindle-l9 L9-3", name="bad"))
    assert ".refused" in fault.value.hint
    assert register.keep(entry("lindle-l9 L9-4"))
    assert {one.unit for one in register.latest()} >= {"lindle-l9 L9-2", "lindle-l9 L9-4"}
    assert len(list((tmp_path / "waiting").rglob("*.refused"))) == 1


def test_a_row_of_another_bench_that_is_no_record_is_left_out_and_named(tmp_path: Path) -> None:
    register = Register(str(tmp_path / "units.db"), tmp_path / "waiting")
    register.keep(entry("lindle-l9 L9-1"))
    for number, (column, text) in enumerate((("result", "{"), ("row", "[1]"), ("result", "7"))):
        register.keep(entry(f"lindle-l9 B-{number}", id=f"{number:032x}"))
        with sqlite3.connect(tmp_path / "units.db") as connection:
            connection.execute(f"update wexicon_record set {column} = ? where id = ?", (text, f"{number:032x}"))
    assert [one.unit for one in register.latest()] == ["lindle-l9 L9-1"]
    assert len(register.broken) == 3
    listed = wexicon("units", "list", "--register", str(tmp_path / "units.db"))
    assert "L9-1" in listed.stdout and "3 records cannot be read" in listed.stderr


AGREE = """format = 1
units = "pins.csv"
[seat.plug]
lexicon  = "tamsel-k5"
each     = "row"
settings = { name = "plug {row.plug}", pin = { env = "PIN_{row.plug}" } }
[agree]
different = ["pin"]
"""


def test_unfinished_work_counts_though_what_another_bench_wrote_of_it_cannot_be_read(tmp_path: Path) -> None:
    register = Register(str(tmp_path / "units.db"), tmp_path / "waiting")
    register.begin(Unfinished("lindle-l9 L9-7", datetime.now(UTC), [], "s", 1, "b"))
    with sqlite3.connect(tmp_path / "units.db") as connection:
        connection.execute(
            "update wexicon_unfinished set began = 'x', settings = '{', process = 'many', bench = '\x1b[2J', prior = '7'"
        )
    found = RegisterStore(tmp_path / "unfinished", lambda: register).find("lindle-l9 L9-7")
    assert found and found.settings == [] and "\x1b" not in found.bench
    assert "unfinished: lindle-l9 L9-7" in wexicon("units", "list", "--register", "units.db").stdout


def test_one_unit_whose_label_cannot_be_drawn_stops_no_other(tmp_path: Path) -> None:
    register = Register(str(tmp_path / "units.db"), tmp_path / "waiting")
    for name, address in (("mast 水 $\\frac{1$", "7"), ("mast 2", "x" * 900)):
        line = SettingResult("address", Outcome.CHANGED, after=Shown(address, "", address))
        entry = Entry(
            f"lindle-l9 {name[:6]}",
            name,
            "lindle-l9",
            "provision",
            "conforms",
            "reading",
            "s",
            "d",
            {},
            RecordedResult(settings=[line]),
        )
        register.keep(entry)
    told = wexicon("units", "label", "-o", "l.svg", "--register", "units.db", status=1)
    assert "mast 2 gets no label" in told.stderr and "has 908 letters" in told.stderr and "1 label of" in told.stdout
    assert "Warning" not in told.stderr


def test_secrets_that_must_differ_are_compared_and_never_shown(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    Path("s.toml").write_text(AGREE)
    Path("pins.csv").write_text("plug\nA\nB\n")
    for name, pin in (("A", "482715"), ("B", "482715"), ("C", "482715"), ("D", "913357")):
        monkeypatch.setenv(f"PIN_{name}", pin)
    for words in (("rehearse", "s.toml"), ("provision", "s.toml", "x", "y")):
        wrong = wexicon(*words, status=2).stderr
        assert "plug A and plug B both have the same secret value" in wrong and "482715" not in wrong
    monkeypatch.setenv("PIN_B", "604418")
    plugs = "".join(f'[unit.{name}]\nstandin = "tamsel-k5"\n' for name in ("one", "two", "three"))
    with virtual(plugs):
        wexicon("provision", "s.toml", "one", "two", "--operator", "rig")
        # Another run, another unit: the PIN of A is refused, another one is not.
        Path("pins.csv").write_text("plug\nC\n")
        refused = wexicon("provision", "s.toml", "three", "--operator", "rig", status=2).stderr
        assert "pin of plug C is already used by plug A" in refused and "482715" not in refused
        Path("pins.csv").write_text("plug\nD\n")
        # With another key they cannot be compared, and that is said.
        key = tmp_path / "state" / "digest.key"
        assert key.stat().st_mode & 0o077 == 0
        key.unlink()
        done = wexicon("provision", "s.toml", "three", "--operator", "rig")
        assert "pin: not compared" in done.stderr
    kept = b"".join(path.read_bytes() for path in (tmp_path / "state").rglob("*") if path.is_file())
    assert b"482715" not in kept and b"913357" not in kept


@pytest.mark.parametrize("where", ["//dora:OPENSESAME@127.0.0.1:1/a", "//127.0.0.1:1/a?user=dora&password=OPENSESAME"])
def test_a_password_in_a_registers_url_is_in_no_message(tmp_path: Path, where: str) -> None:
    register = Register(f"postgresql+psycopg:{where}", tmp_path / "w")
    with pytest.raises(Fault, match=r"127\.0\.0\.1") as fault:
        list(register.latest())
    assert "OPENSESAME" not in f"{fault.value} {fault.value.where} {fault.value.hint} {register.where}"


HOSTILE = {
    "terminal": "\x1b]0;owned\x07\x1b[2Jgone\x9b31m",
    "reversed": "a\u202eb\u2066c\u200bd",
    "formula": "=cmd|' /C calc'!A0",
    "list": "ok;=1+1\t@SUM(A1)",
    "surrogate": "\ud800x",
    "maths": "$x^2$ and $",
}


@pytest.mark.parametrize("text", HOSTILE.values(), ids=HOSTILE)
def test_what_another_bench_wrote_moves_no_cursor_and_counts_in_no_spreadsheet(tmp_path: Path, text: str) -> None:
    register = Register(str(tmp_path / "units.db"), tmp_path / "w")
    assert register.keep(entry("lindle-l9 L9-1", name=text, bench=text))
    where = ("--register", "units.db")
    outputs = [wexicon("units", "list", *where).stdout, wexicon("units", "show", "L9-1", *where).stdout]
    outputs.append(wexicon("units", "list", "--json", *where).stdout)
    for output in outputs:
        assert not [each for each in output if each != "\n" and not each.isprintable()], output
    wexicon("units", "export", "-o", "units.csv", *where)
    wexicon("units", "export", "-o", "units.json", *where)
    wexicon("units", "label", "-o", "units.svg", *where)
    assert "L9-1" in Path("units.json").read_text() and Path("units.svg").stat().st_size > 1000
    for separator in ",;\t":
        for row in csv.reader(Path("units.csv").read_text().splitlines(), delimiter=separator):
            assert not [cell for cell in row if cell.lstrip()[:1] in ("=", "+", "@")], row
