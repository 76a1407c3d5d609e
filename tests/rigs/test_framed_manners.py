"""Manners 70 to 82: frames, registers, buses, JSON, lists, clocks, logins, several modules behind one port."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Bench, bench, built, virtual, wexicon, without_times
from wexicon.core.faults import FileFault, ModuleFault, Unreachable
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.formats.lexicon.gaps import gaps
from wexicon.core.protocol.keyed import Keyed, as_object
from wexicon.core.protocol.observations import Heard, Role
from wexicon.core.protocol.patterns import PatternFault
from wexicon.core.results.unit import UnitResult
from wexicon.core.tuning import Tuning
from wexicon.core.values import Int, List
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.catalog import find_lexicon, shipped_folder
from wexicon.work.module.settings import list_steps

KEY = "00112233445566AB"


def line(result: UnitResult, name: str) -> Any:
    return next(one for one in result.settings if one.name == name)


# -- frames ---------------------------------------------------------------------------------------------------------------


def test_frames_are_set_while_reports_come_among_the_answers() -> None:
    one = Bench("samphire-f2", every=1)
    one.agenda.run_until(2.0)
    # A slow module, so that a report comes in the middle of many exchanges.
    one.standin.answers_in = 0.2
    result = one.provision(name="Outer buoy", power=-3, network=515, offset=-1.5, rate=9600)
    assert result.verdict == "conforms", result.failure
    flash = one.standin.flash
    assert (flash["name"], flash["power"], flash["network"], flash["offset"]) == ("Outer buoy", -3, 515, -1500)
    assert flash["channel"] == 4 and one.standin.uart.tuning.rate == 9600
    reports = [seen for seen in one.trace.all if isinstance(seen, Heard) and seen.name == "report"]
    assert len(reports) > 3 and all(set(seen.values) == {"warmth", "supply"} for seen in reports)


def test_noise_among_frames_is_never_a_value() -> None:
    for seed in range(6):
        one = Bench("samphire-f2", faults=WireFaults(noise=0.01, seed=seed))
        result = one.provision(name="buoy", power=7)
        if result.verdict == "conforms":
            assert (one.standin.flash["name"], one.standin.flash["power"]) == ("buoy", 7)


def test_registers_move_station_rate_and_frame_and_other_stations_are_left_alone() -> None:
    one = Bench("saltern-m4")
    result = one.provision(
        station=17, rate=38400, frame="8E1", power=-3, frequency=868.3, name="Old Ferry", repeater=True
    )
    assert result.verdict == "conforms", result.failure
    assert one.standin.memory["station"] == 17 and str(one.standin.uart.tuning) == "38400 8E1"
    assert result.link == "38400 8E1 station 17"
    # Nothing known, another number and rate than delivered: it is found all the same.
    one = Bench("saltern-m4", station=17, rate=384)
    again = one.read_out()
    assert again.verdict == "read" and line(again, "station").after.value == 17


def test_an_exception_is_told_with_its_meaning_and_a_silent_station_is_no_success() -> None:
    one = Bench("saltern-m4")
    one.standin.write = lambda first, words: 4  # type: ignore[attr-defined]
    result = one.provision(power=3)
    assert result.verdict == "failed" and "4 (the device failed while it did this)" in str(result.failure)
    lost = Bench("saltern-m4")
    lost.standin.heard = lambda data, began: None  # type: ignore[method-assign]
    with pytest.raises(Unreachable):
        lost.module().attention.gain()


def test_a_family_is_made_of_registers_by_a_lexicon_that_extends_the_open_one() -> None:
    text = b"""format = 1
extends = "modbus-rtu"
[about]
family = "own"
[setting.power]
meaning = "x"
value = { kind = "int", min = -5, max = 27 }
read  = { say = "03 0110 0001", hear = "03 02 {value:i16}" }
write = { say = "06 0110 {value|i16}", hear = "06 0110 ..." }
"""
    shipped = {name: (shipped_folder() / f"{name}.toml").read_bytes() for name in ("modbus-rtu",)}
    lexicon = read_lexicon(text, "own.toml", lambda name: shipped[name])
    one = Bench("saltern-m4")
    one.standin.flash["rate"], one.standin.flash["frame"] = 192, 1
    one.standin.restart()
    one.lexicon = lexicon
    module = one.module()
    assert module.attention.gain() == Tuning(19200, 8, "E", 1, 1)
    assert module.identify() == {"level": "1", "vendor": "Saltern", "product": "M4", "firmware": "3.1"}
    module.set("power", -5)
    assert module.read("power") == -5


# -- buses ----------------------------------------------------------------------------------------------------------------


def test_lines_of_a_bus_come_back_and_a_name_may_look_like_an_error() -> None:
    one = Bench("teasel-d3")
    for name in ("4", "0", "2"):
        result = one.provision(name=name, gain=9, trust=("key",))
        assert result.verdict == "conforms" and one.standin.flash["name"] == name, result.failure
    assert one.read_out().verdict == "read"
    module = one.module()
    module.attention.gain()
    assert module.session.echoes > 0
    reply = module.session.exchange("put 3 99")
    assert (reply.status, reply.code) == ("error", "3")
    # A question that is refused is no value.
    phrase = one.lexicon.settings["gain"].read
    assert phrase is not None
    reply = module.session.exchange("get 9", phrase.expect)
    assert (reply.status, reply.code) == ("error", "2")


def test_a_number_on_the_line_is_changed_and_followed() -> None:
    one = Bench("teasel-d3")
    assert one.provision(station=12, rate=57600).verdict == "conforms"
    assert (one.standin.flash["number"], one.standin.flash["rate"]) == (12, 57600)
    trace = one.trace.all
    foreign = [seen for seen in trace if isinstance(seen, Heard) and seen.role is Role.UNMATCHED]
    assert not foreign
    assert line(one.read_out(), "station").after.value == 12


def test_a_value_that_is_shown_in_part_is_compared_as_far_as_that() -> None:
    one = Bench("teasel-d3")
    result = one.provision(key=KEY)
    assert (result.verdict, line(result, "key").outcome) == ("unproved", "accepted")
    assert line(result, "key").note == "2 characters of it are answered, and these are right"
    assert one.standin.flash["key"] == KEY and KEY not in repr(one.trace.all)
    assert one.provision(key=KEY, trust=("key",)).verdict == "conforms"
    checked = one.verify(key="FF112233445566AB")
    assert (checked.verdict, line(checked, "key").outcome) == ("unproved", "unverified")
    wrong = one.verify(key="00112233445566FF")
    assert (wrong.verdict, line(wrong, "key").outcome) == ("failed", "differs")
    # A module that acknowledges and keeps another key is found out.
    put = one.standin.put
    one.standin.put = lambda item, text: put(item, "0" * 16 if item == "2" else text)  # type: ignore[method-assign]
    assert one.provision(key=KEY, trust=("key",)).verdict == "failed"


# -- objects, lists, a clock ------------------------------------------------------------------------------------------------


def test_objects_are_matched_by_their_keys_whatever_their_order() -> None:
    pattern = Keyed('ok true, radio.power {power:int}, name "{name}"')
    text = json.dumps({"name": 'a "b", ü', "x": [1, {"y": 2}], "radio": {"power": -4}, "ok": True})
    assert pattern.match(text) == {"power": -4, "name": 'a \\"b\\", \\u00fc'} or pattern.match(text)
    assert pattern.match(json.dumps({"ok": True, "name": "x"})) is None
    assert pattern.match('{"ok":true,') is None and pattern.match("[1]") is None and pattern.match("[" * 9000) is None
    assert pattern.match("{" * 50_000) is None
    assert Keyed("a {x}").match('{"a": 14.50}') == {"x": "14.50"}
    with pytest.raises(PatternFault):
        Keyed('ok true, "name"')


@given(
    st.dictionaries(
        st.from_regex("[a-z][a-z0-9]{0,5}", fullmatch=True), st.text() | st.integers() | st.booleans(), min_size=1
    )
)
def test_what_is_said_by_keys_is_the_object(told: dict[str, Any]) -> None:
    text = ", ".join(f"{key} {json.dumps(value)}" for key, value in told.items())
    assert json.loads(as_object(text)) == told


def test_what_is_no_object_is_refused_before_it_is_said() -> None:
    module = Bench("plover-j1").module()
    for said in ("hello", 'name "x', "name x", "do 1 2"):
        with pytest.raises(ModuleFault, match="keys and values"):
            module.session.exchange(said)


def test_lists_are_brought_about_item_by_item_and_in_their_order() -> None:
    one = Bench("plover-j1", peers=["02A15C000001", "02A15C000009"])
    result = one.provision(peers=["02A15C000002", "02A15C000001"], servers=["b.example", "a.example"])
    assert result.verdict == "conforms", result.failure
    assert one.standin.flash["peers"] == ["02A15C000001", "02A15C000002"]
    assert one.standin.flash["servers"] == ["b.example", "a.example"]
    said = " ".join(one.trace.said())
    assert said.count("admit") == 1 and said.count("forget") == 1
    # The same in another order is the same for peers, and is not for servers.
    assert one.verify(peers=["02A15C000001", "02A15C000002"]).verdict == "conforms"
    assert one.verify(servers=["a.example", "b.example"]).verdict == "failed"
    assert one.verify(peers={"has": ["02A15C000002"]}).verdict == "conforms"
    assert one.verify(peers={"has": ["02A15C000003"]}).verdict == "failed"
    more = one.provision(peers={"has": ["02A15C000003"]})
    assert more.verdict == "conforms" and len(one.standin.flash["peers"]) == 3
    # No room: the module says so, and nothing is called right.
    full = one.provision(peers={"has": [f"02A15C0000F{n}" for n in range(5)]})
    assert full.verdict == "failed" and "no room" in str(full.failure)


NUMBERS = List(of=Int(), max=9)


@given(
    st.lists(st.integers(0, 9), unique=True, max_size=6),
    st.lists(st.integers(0, 9), unique=True, max_size=6),
    st.booleans(),
)
def test_the_steps_of_a_list_lead_to_it(have: list[int], want: list[int], ordered: bool) -> None:
    kind = msgspec.structs.replace(NUMBERS, ordered=ordered)
    removed, added = list_steps(kind, have, want, None, [])
    now = list(have)
    for item, _ in removed:
        now.remove(item)  # type: ignore[arg-type]
    now += [item for item, _ in added]  # type: ignore[misc]
    assert kind.fits(now, want) and (now == want if ordered else sorted(now) == sorted(want))
    assert not {item for item, _ in removed} & {item for item, _ in added} or ordered
    removed, added = list_steps(kind, have, {"has": want}, None, [])
    assert not removed and set(have) | {item for item, _ in added} >= set(want)  # type: ignore[type-var]


@given(
    st.dictionaries(st.integers(1, 4), st.sampled_from("abc"), max_size=4), st.lists(st.sampled_from("abc"), max_size=4)
)
def test_the_steps_of_numbered_places_lead_to_it(places: dict[int, str], want: list[str]) -> None:
    kind = List(of=find_lexicon("marram-c2").settings["networks"].kind.of, ordered=True)  # type: ignore[attr-defined]
    removed, added = list_steps(kind, list(places.values()), want, 1, list(places))
    now = dict(places)
    for _, at in removed:
        del now[at]
    now |= {at: item for item, at in added}  # type: ignore[misc]
    assert now == {at + 1: item for at, item in enumerate(want)}


def test_numbered_places_are_filled_and_cleared() -> None:
    one = Bench("marram-c2")
    one.standin.flash["radios"][0]["places"] = {1: "old.example", 3: "c.example", 4: "d.example"}
    one.standin.restart()
    result = one.provision(networks=["a.example", "b.example", "c.example"])
    assert result.verdict == "conforms", result.failure
    assert one.standin.flash["radios"][0]["places"] == {1: "a.example", 2: "b.example", 3: "c.example"}
    assert not any("place 3" in said for said in one.trace.said())


def test_a_clock_is_set_from_ours_and_runs_on() -> None:
    one = Bench("plover-j1")
    before = one.verify(clock="now")
    assert before.verdict == "failed" and "slow" in line(before, "clock").after.shown
    result = one.provision(clock="now", name="gate")
    assert result.verdict == "conforms" and line(result, "clock").note == "until power is lost", result.failure
    one.agenda.run_until(one.agenda.now + 3600)
    assert one.verify(clock="now").verdict == "conforms"
    # A clock that runs wrong is found out.
    one.standin.set_at -= 10  # type: ignore[attr-defined]
    wrong = one.verify(clock="now")
    assert wrong.verdict == "failed" and line(wrong, "clock").after.shown == "10 s fast"


def test_one_event_tells_what_was_granted_of_two_settings() -> None:
    one = Bench("plover-j1")
    result = one.provision(period=45, window=30)
    assert result.verdict == "conforms"
    assert [line(result, name).granted.shown for name in ("period", "window")] == ["30 s", "6 s"]


def test_a_group_has_another_line_for_a_single_value_of_a_member() -> None:
    one = Bench("plover-j1")
    assert line(one.read_out(), "power").after.shown == "unset"
    assert one.provision(beacon=True, power=-4, every=10).verdict == "conforms"
    assert one.standin.flash["beacon"] == [-4, 10]
    assert one.provision(beacon=False).verdict == "conforms" and one.standin.flash["beacon"] is None
    module = one.module()
    module.attention.gain()
    with pytest.raises(ModuleFault, match="must be given too"):
        module.settings.line_for({"beacon": True}, {})
    text = (shipped_folder() / "plover-j1.toml").read_text()
    for old, new, told in (
        ('"beacon = false" =', '"beakon = false" =', "did you mean beacon"),
        ('"beacon = false" =', '"beacon" =', "names no member"),
        ("unset_tells = { beacon = false }", "unset_tells = { beacon = 7 }", "beacon: 7"),
        ('remove  = { say = \'do "forget", peer "{value}"\' }', "", "go together"),
        ('form = "%Y-%m-%d %H:%M:%S"', 'form = "%H:%M"', "does not tell date and time"),
        ('capture = "window"', 'capture = "windows"', "captures {windows}"),
        ("say = 'do \"set\", rate {value}'", "say = 'do \"set\", rate {rate}'", "has no value here"),
    ):
        assert old in text
        with pytest.raises(FileFault, match=told):
            read_lexicon(text.replace(old, new).encode(), "x.toml")


def test_others_go_back_to_their_factory_defaults(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text("""format = 1
[seat.gate]
lexicon  = "plover-j1"
others   = "factory"
settings = { name = "gate" }
""")
    flash = 'settings = { peers = ["02A15C000001"], beacon = [5, 5], period = 90, name = "old", rate = 9600 }\n'
    with virtual(f'[unit.gate]\nstandin = "plover-j1"\n{flash}') as server:
        port = server.ports["gate"]
        told = json.loads(wexicon("provision", str(tmp_path / "s.toml"), port, "--json").stdout)
        standin = server.rig.units["gate"].standin
        assert told["verdict"] == "conforms"
        assert standin.flash == {**standin.factory, "name": "gate"}
        assert told["remarks"] == ["not brought to a factory default: clock"]
    (tmp_path / "s.toml").write_text((tmp_path / "s.toml").read_text().replace('"factory"', '"fresh"'))
    assert "others: 'fresh' is not factory" in wexicon("rehearse", str(tmp_path / "s.toml"), status=2).stderr


# -- logins, and several behind one port --------------------------------------------------------------------------------------


def test_a_login_is_made_by_steps_and_only_if_it_is_asked_for() -> None:
    word = "gannet-9"
    one = Bench("marram-c2", word=word)
    module = one.module()
    module.given = {"word": word}
    module.attention.gain()
    assert module.identify()["serial"] == "MC2-0031-1"
    said = one.trace.said()
    assert "fitter" in said and word not in repr(one.trace.all)
    # A question would be taken for the name.
    assert "id" not in said[: said.index("fitter")]
    # Inside already: the login is not said again, which would be a command there.
    other = one.module()
    other.given = {"word": word}
    other.attention.gain()
    assert one.trace.said()[len(said) :].count("fitter") == 0
    one.standin.restart()
    wrong = one.module()
    wrong.given = {"word": "quay"}
    with pytest.raises(ModuleFault):
        wrong.attention.gain()


def test_answers_end_at_the_prompt_right_or_wrong() -> None:
    one = Bench("marram-c2")
    module = one.module()
    module.attention.gain()
    session = module.session
    began = session.clock.now()
    wrong = session.exchange("set channel 99")
    assert (wrong.status, wrong.code) == ("error", "not allowed")
    assert session.exchange("set channel 5").ok and session.clock.now() - began < 0.2
    assert session.anomalies == 0 and session.outstanding == 0
    assert session.exchange("nonsense").status == "error"


def test_each_module_behind_one_port_is_a_unit_of_its_own(tmp_path: Path) -> None:
    (tmp_path / "r.csv").write_text("station,channel\nCobble Stair,2\nWithy Point,3\nOld Ferry,4\n")
    (tmp_path / "r.toml").write_text("""format = 1
units = "r.csv"
[seat.radio]
lexicon  = "marram-c2"
each     = "row"
settings = { name = "{row.station}", channel = "{row.channel}", networks = ["quay.example"] }
""")
    register = f"sqlite:///{tmp_path}/r.db"
    with bench('[unit.quay]\nstandin = "marram-c2"\n') as server:
        port = server.ports["quay"]
        ports = [f"{port}#{number}" for number in (1, 2, 3)]
        ran = built("provision", str(tmp_path / "r.toml"), *ports, "--register", register, "--json")
        assert ran.returncode == 0, ran.stdout + ran.stderr
        radios = server.rig.units["quay"].standin.flash["radios"]
        assert [radio["name"] for radio in radios] == ["Cobble Stair", "Withy Point", "Old Ferry"]
        assert [radio["channel"] for radio in radios] == [2, 3, 4]
        units = json.loads(wexicon("units", "list", "--register", register, "--json").stdout)
        assert {one["unit"].rpartition(" ")[2] for one in units} == {f"MC2-0031-{n}" for n in (1, 2, 3)}
        told = wexicon("readout", f"{port}#4", "-l", "marram-c2", status=1).stderr
        assert "module 4 behind this port cannot be chosen" in told and "1 to 3" in told
        assert json.loads(wexicon("hail", "quay#2", "--json").stdout)["identity"]["serial"] == "MC2-0031-2"


@pytest.mark.parametrize(("wanted", "verdict"), [("channel = 3", "failed"), ("name = 'mole'", "unproved")])
def test_a_write_that_reached_another_one_behind_the_port_is_found(tmp_path: Path, wanted: str, verdict: str) -> None:
    # A damaged line chooses radio 1 for one write; that radio was done before, with this setting ordered or not.
    first = "channel = 2" if wanted.startswith("channel") else "channel = 3"
    (tmp_path / "s.toml").write_text(
        f'format = 1\n[seat.one]\nlexicon = "marram-c2"\nsettings = {{ {first} }}\n'
        f'[seat.two]\nlexicon = "marram-c2"\nsettings = {{ {wanted} }}\n'
    )
    with bench('[unit.quay]\nstandin = "marram-c2"\n') as server:
        standin, port = server.rig.units["quay"].standin, server.ports["quay"]
        put, turns = standin.put, []

        def astray(name: str, text: str) -> None:
            chosen = standin.chosen
            if chosen not in turns:
                turns.append(chosen)
                standin.chosen = turns[0]
            put(name, text)
            standin.chosen = chosen

        standin.put = astray
        ran = built(
            "provision",
            str(tmp_path / "s.toml"),
            f"{port}#1",
            f"{port}#2",
            "--register",
            f"sqlite:///{tmp_path}/r.db",
            "--json",
            status=4 if verdict == "unproved" else 1,
        )
        units = json.loads(ran.stdout)
        # Either may come first; the other one's first write reached it.
        earlier, later = (units[number - 1] for number in turns)
        name = later["settings"][0]["name"]
        assert standin.flash["radios"][0][name] == standin.flash["radios"][1][name]
    assert (earlier["verdict"], later["verdict"]) == (verdict, "conforms")
    assert f"{name} changed while others behind the same port were worked on: {later['seat']}" in str(
        earlier["remarks"]
    )


def test_what_may_mislead_is_told_by_check() -> None:
    text = b"""format = 1
[about]
family = "trap"
[speech]
ok = ["0"]
error = ["{code:int}"]
closing = "alone"
[events]
any = "+{text}"
peer = "+PEER {address:address}"
[setting.level]
meaning = "x"
value = { kind = "int" }
read = { say = "L?", hear = "{value:int}" }
write = { say = "L={value}" }
[setting.peer]
meaning = "x"
value = { kind = "address", written = "XX:XX:XX", heard = "XXXXXXXX" }
read = { say = "P?", hear = "P {value}" }
write = { say = "P={value}" }
"""
    found = dict(gaps(read_lexicon(text, "trap.toml")))
    assert "would be taken for a result code" in found["setting.level"]
    assert "taken for any" in found["events.peer"]
    assert "written with 6 digits and heard with 8" in found["setting.peer"]
    quiet = read_lexicon(text.replace(b'"alone"', b'"always"'), "trap.toml")
    assert "setting.level" not in dict(gaps(quiet))


def test_a_framed_session_is_rehearsed_from_its_trace(tmp_path: Path) -> None:
    for name in ("samphire-f2", "saltern-m4", "teasel-d3", "plover-j1", "marram-c2"):
        with virtual(f'[unit.{name}]\nstandin = "{name}"\n') as server:
            port, trace = server.ports[name], tmp_path / f"{name}.jsonl"
            wexicon("set", port, "-l", name, "name=Quay", "--trace", str(trace))
        sheet = tmp_path / f"{name}.toml"
        sheet.write_text(f'format = 1\n[seat.one]\nlexicon = "{name}"\nsettings = {{ name = "Quay" }}\n')
        told = wexicon("rehearse", str(sheet), "--recording", str(trace)).stdout
        assert "conforms" in told, name


def test_secrets_of_frames_are_nowhere(tmp_path: Path) -> None:
    (tmp_path / "key").write_text(KEY)
    with virtual('[unit.one]\nstandin = "teasel-d3"\n') as server:
        port, trace = server.ports["one"], tmp_path / "t.jsonl"
        told = wexicon("set", port, "-l", "teasel-d3", "--file", f"key={tmp_path}/key", "--trace", str(trace), status=4)
        assert server.rig.units["one"].standin.flash["key"] == KEY
    assert KEY not in without_times(told.stdout + told.stderr + trace.read_text())
