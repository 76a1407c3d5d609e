"""Settings as they were: what a module had before it was provisioned comes back, to that module alone, whatever interrupted."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import Bench, bench, built, virtual, wexicon, without_times
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import provision

SHEET = 'format = 1\ntitle = "Marrow"\n[seat.mast]\nlexicon = "lindle-l9"\n'
SHEET += 'settings = { name = "quay", network = 6, rate = 115200 }\n'
RIG = """[unit.mast]
standin = "lindle-l9"
settings = { name = "old", net = 3, addr = 41 }
[unit.other]
standin = "lindle-l9"
identity = { serial = "L9-00999" }
"""


def test_a_module_gets_back_what_it_had_and_no_other_is_touched() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual(RIG) as rig:
        flash = lambda unit="mast": dict(rig.unit(unit).standin.flash)  # noqa: E731
        first, others = flash(), flash("other")
        wexicon("provision", "s.toml", "virtual://mast")
        assert flash() != first
        refused = wexicon("restore", "mast", "virtual://other", status=1).stderr
        assert (
            "this module is lindle-l9 L9-00999, not lindle-l9 L9-00417" in refused and "Nothing was changed" in refused
        )
        assert flash("other") == others
        planned = wexicon("restore", "mast", "virtual://mast", "--plan").stdout
        assert "nothing was written" in planned and flash() != first
        done = wexicon("restore", "mast", "virtual://mast")
        assert "conforms: 3 changed" in done.stdout and flash() == first
        # It is a unit of the sheet no more: it has to be provisioned again, and may become another one.
        assert "no finished provisioning" in wexicon("verify", "s.toml", "virtual://mast", status=1).stdout
        again = wexicon("restore", "L9-00417", "virtual://mast").stdout
        assert "nothing written" in again and flash() == first
    actions = [one["did"] for one in json.loads(wexicon("units", "show", "L9-00417", "--json").stdout)]
    assert actions == ["provision", "restore", "verify", "restore"]


def test_a_restored_row_is_not_done() -> None:
    Path("masts.csv").write_text("station\nM1\n")
    Path("s.toml").write_text(SHEET.replace("format = 1", 'format = 1\nunits = "masts.csv"') + 'each = "row"\n')
    with virtual(RIG):
        wexicon("provision", "s.toml", "virtual://mast")
        assert "1 already done; 0 to do" in wexicon("provision", "s.toml", "virtual://mast", "--resume").stderr
        wexicon("restore", "mast M1", "virtual://mast")
        assert "0 already done; 1 to do" in wexicon("provision", "s.toml", "virtual://mast", "--resume").stderr

    Path("one.toml").write_text(SHEET)
    with virtual(RIG):
        wexicon("provision", "one.toml", "virtual://mast", "--again")
        wexicon("restore", "mast", "virtual://mast")
        assert "0 already done; 1 to do" in wexicon("provision", "one.toml", "virtual://mast", "--resume").stderr


def test_the_first_state_is_found_by_its_day_and_what_is_missing_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PIN", "482130")
    sheet = 'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\nsettings = { name = "Withy", pin = { env = "PIN" } }\n'
    Path("k.toml").write_text(sheet)
    rig = '[unit.plug]\nstandin = "tamsel-k5"\n'
    with virtual(rig) as served:
        port = served.ports["plug"]
        wexicon("provision", "k.toml", port, "--operator", "rig")
        Path("k.toml").write_text(sheet.replace("Withy", "Ferry"))
        wexicon("provision", "k.toml", port, "--operator", "rig")
        before = wexicon("restore", "plug", port, "--operator", "rig")
        assert "not restored: pin (secret)" in before.stderr and "482130" not in without_times(
            before.stderr + before.stdout
        )
        assert served.rig.unit("plug").standin.flash["label"] == "Withy"
        wexicon("restore", "plug", port, "--operator", "rig", "--since", "2026-01-01")
        assert served.rig.unit("plug").standin.flash["label"] == "TAMSEL-K5"
        assert "no earlier settings" in wexicon("restore", "plug", port, "--since", "2126-01-01", status=2).stderr


def test_what_was_before_the_first_write_survives_a_stop_in_the_middle() -> None:
    one = Bench("lindle-l9")
    order = one.order(name="quay", network=6, power=2)
    saved = lambda: one.standin.flash["name"] == "quay"  # noqa: E731
    session = one.session(stopping=saved)
    first = provision(Module(session, one.lexicon, one.operator), order, store=one.store)
    assert first.verdict == "stopped" and saved()
    second = provision(one.module(), one.order(name="quay", network=6, power=2, peer=4), store=one.store)
    assert second.verdict == "conforms" and second.settings[0].before.shown == "quay"  # type: ignore[union-attr]
    prior = {name: shown.shown for name, shown in second.prior.items()}
    assert (prior["name"], prior["network"], prior["power"], prior["address"]) == ("L9", "1", "14 dBm", "0")
    # Work that was seen through is another matter: now the settings are what they are.
    third = provision(one.module(), one.order(name="pier"), store=one.store)
    assert third.verdict == "conforms", (third.failure, third.prior, third.settings)
    assert third.prior["name"].shown == "quay"


def test_two_units_are_compared_setting_by_setting() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual(RIG):
        wexicon("provision", "s.toml", "virtual://mast")
        wexicon("provision", "s.toml", "virtual://other")
    told = wexicon("units", "compare", "L9-00417", "L9-00999", status=1).stdout
    assert "1 of 11 settings differs" in told and "address" in told and "41" in told and "network" not in told
    same = json.loads(wexicon("units", "compare", "L9-00417", "L9-00417", "--json").stdout)
    assert {one["same"] for one in same} == {True}
    assert "no unit M9" in wexicon("units", "compare", "M9", "L9-00417", status=2).stderr


def test_what_a_module_forgets_without_power_is_not_restored() -> None:
    """The lamp was dark before, and somebody has switched it on since: that is no setting that provisioning changed."""
    Path("s.toml").write_text('format = 1\n[seat.mast]\nlexicon = "wherry-c3"\nsettings = { reach = "far" }\n')
    with virtual('[unit.mast]\nstandin = "wherry-c3"\n') as rig:
        wexicon("provision", "s.toml", "virtual://mast", "--prove", "reading")
        wexicon("set", "virtual://mast", "lamp=on", "-l", "wherry-c3", "--prove", "reading")
        planned = wexicon("restore", "mast", "virtual://mast", "--plan")
        assert "put reach" in planned.stdout and "lamp" not in planned.stdout + planned.stderr
        wexicon("restore", "mast", "virtual://mast", "--prove", "reading")
        assert rig.unit("mast").standin.lamp == "lit"  # type: ignore[attr-defined]


def test_a_value_that_the_lexicon_no_longer_allows_is_named_and_left() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual(RIG) as rig:
        wexicon("provision", "s.toml", "virtual://mast")
        narrow = Path("narrow.toml")
        narrow.write_text(
            'format = 1\nextends = "lindle-l9"\n[setting.network]\nfactory = 6\nvalue = { kind = "int", min = 5, max = 9 }\n'
        )
        told = wexicon("restore", "mast", "virtual://mast", "-l", "narrow.toml")
        assert "not restored: network (3 is out of range)" in told.stderr
        assert (rig.unit("mast").standin.flash["name"], rig.unit("mast").standin.flash["net"]) == ("old", 6)


def test_the_built_program_restores_on_a_real_port() -> None:
    Path("s.toml").write_text(SHEET)
    with bench(RIG) as served:
        before = dict(served.rig.unit("mast").standin.flash)
        built("provision", "s.toml", served.ports["mast"])
        assert "conforms" in built("restore", "mast", served.ports["mast"]).stdout
        assert dict(served.rig.unit("mast").standin.flash) == before


def test_a_value_that_holds_a_secret_is_not_kept_as_an_earlier_one(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("PIN", "48213064")
    sheet = 'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\nsettings = { role = "leader", pin = { env = "PIN" } }\n'
    Path("k.toml").write_text(sheet)
    with virtual('[unit.plug]\nstandin = "tamsel-k5"\nsettings = { label = "plug 48213064" }\n') as served:
        wexicon("provision", "k.toml", served.ports["plug"], "--operator", "rig")
        kept = [path for path in (tmp_path / "state").rglob("*") if path.is_file()]
        assert kept and not [path for path in kept if "48213064" in without_times(path.read_bytes())]
        told = wexicon("restore", "plug", served.ports["plug"], "--operator", "rig").stderr
        assert "name (was not read)" in told
        assert served.rig.unit("plug").standin.flash["label"] == "plug 48213064"
