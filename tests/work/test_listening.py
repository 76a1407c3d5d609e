"""Listening: what comes is decoded, counted and added up; what is claimed of it is true to the stand-in's own knowledge."""

from __future__ import annotations

import random
from functools import partial, reduce
from math import cos, hypot, radians
from operator import xor
from pathlib import Path
from typing import Any

import pynmea2
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Bench, wexicon
from wexicon import api
from wexicon.core.agenda import Agenda
from wexicon.core.engineering.radio import metres_per_degree
from wexicon.core.engineering.sketches import MOST_CELLS, OverTime, Scatter
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon.listening import Timer
from wexicon.core.results.functions import HeardEvent, ListeningResult
from wexicon.core.results.result import Verdict
from wexicon.core.standards.gnss import fix_of, in_words, parse, views_of
from wexicon.records.trace import read_trace
from wexicon.records.trace_writer import TraceWriter
from wexicon.rigs.air import Place
from wexicon.rigs.standins import family
from wexicon.rigs.standins.polmar_p1 import PolmarP1
from wexicon.work.function.ears import Ears, ListenOrder
from wexicon.work.function.listening import listen
from wexicon.work.function.tracks import Positions, TimerTrack
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

HOUR, DAY = 3600.0, 86_400.0
SAVING = 'saving = 1, link_report = 1, report = 4, periodic = "00100001", active = "00100010"'


def rig(unit: str, rest: str = "") -> Path:
    path = Path("rig.toml")
    path.write_text(f"format = 1\n[unit.one]\n{unit}\n{rest}")
    return path


def receiver(out: str = '["GGA", "RMC", "GSA", "GSV"]', sky: str = "", talker: str = "GN") -> Path:
    own = f'out = {out}, talker = "{talker}", port = [57600, 8, "N", 1]'
    return rig(f'standin = "polmar-p1"\nsettings = {{ {own} }}', f"[air.sky]\n{sky}\n")


def heard(path: Path, show: Any = lambda event: None, **order: Any) -> ListeningResult:
    return api.rehearse_listening(path, "one", ListenOrder(**order), show=show).result


# -- sentences --------------------------------------------------------------------------------------------------------------


def test_fields_are_as_another_package_reads_them() -> None:
    agenda, said = Agenda(), []
    settings = {"out": ("GGA", "RMC", "GSA", "GSV", "GLL"), "talker": "GN", "port": (57600, 8, "N", 1)}
    one = PolmarP1(agenda, "one", settings)
    one.say = lambda text, delay=None: said.append(str(text))  # type: ignore[method-assign]
    one.power(True)
    agenda.run_until(60)
    checked = 0
    for line in "".join(said).split("\r\n")[1:-1]:
        ours, other = parse(line), pynmea2.parse(line)
        if fix := fix_of(ours):
            checked += 1
            assert fix.there is (other.is_valid if hasattr(other, "is_valid") else bool(other.gps_qual))
            if fix.there:
                assert fix.latitude == pytest.approx(other.latitude) and fix.longitude == pytest.approx(other.longitude)
        for at, view in enumerate(views_of(ours), 1):
            found = [getattr(other, name + f"_{at}") for name in ("elevation_deg", "azimuth", "snr")]
            assert [view.elevation, view.azimuth, view.signal] == [float(text) for text in found]
    assert checked > 100


@pytest.mark.parametrize(
    ("line", "words"),
    [
        (
            "$GPGGA,080012.30,5128.8793,N,00259.1930,W,1,04,1.7,-20.4,M,48.6,M,,*78",
            {
                "system": "GPS",
                "time": "08:00:12.30",
                "latitude": "51.481322° N",
                "longitude": "2.986550° W",
                "quality": "fix",
                "satellites": "04",
                "hdop": "1.7",
                "altitude": "-20.4 m",
                "geoid": "48.6 m",
            },
        ),
        ("$GNRMC,,V,,,,,,,020326,,,N*55", {"status": "not valid", "date": "2026-03-02", "mode": "not valid"}),
        (
            "$GAGSV,1,1,02,06,05,107,29,23,22,073,*7E",
            {"system": "Galileo", "in view": "02", "06": "29 dB-Hz", "23": "not heard"},
        ),
        (
            "$GNGSA,A,3,25,29,,,,,,,,,,,1.5,0.8,1.2,2*3C",
            {
                "selection": "automatic",
                "fix": "3D fix",
                "pdop": "1.5",
                "hdop": "0.8",
                "vdop": "1.2",
                "system": "GLONASS",
            }
            | {"used": "25 29"},
        ),
    ],
)
def test_a_sentence_in_words_has_units_and_leaves_out_what_is_not_known(line: str, words: dict[str, str]) -> None:
    from wexicon.core.standards.gnss import with_checksum

    assert in_words(parse(with_checksum(line[:-3]))) == words


# -- sketches ---------------------------------------------------------------------------------------------------------------


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([0.02, 1.0, 300.0]), st.sampled_from([50, 3000]))
def test_a_circle_is_right_to_its_told_error_and_the_sketch_stays_small(seed: int, spread: float, count: int) -> None:
    own = random.Random(seed)
    places = [(own.gauss(0, spread), own.gauss(0, spread)) for _ in range(count)]
    made = Scatter(most=200)
    for place in places:
        made.add(*place)
    east, north = (sum(axis) / count for axis in zip(*places, strict=True))
    assert made.mean == pytest.approx((east, north), abs=1e-6)
    away = sorted(hypot(x - east, y - north) for x, y in places)
    for share in (0.5, 0.95):
        exact = away[min(count - 1, -int(-share * count // 1) - 1)]
        assert abs(made.radius(share) - exact) <= made.error + 1e-9
    assert len(made.cells) <= 200


def test_a_day_of_values_fits_into_a_few_bins_and_keeps_least_mean_and_most() -> None:
    made = OverTime(64)
    values = [random.Random(7).gauss(-70, 5) for _ in range(20_000)]
    for at, value in enumerate(values):
        made.add(at * 4.3, value)
    assert len(made.bins) <= 64 and made.whole
    assert (made.whole.least, made.whole.most) == (min(values), max(values))
    assert made.whole.mean == pytest.approx(sum(values) / len(values))
    whole = [one for _, one in made.points()]
    assert sum(one.count for one in whole) == 20_000
    assert sum(one.mean * one.count for one in whole) / 20_000 == pytest.approx(made.whole.mean)


def test_metres_are_those_of_the_ellipsoid() -> None:
    # From the published lengths of a degree on WGS 84 at 0, 45 and 60 degrees, to the metre.
    for latitude, north, east in ((0, 110_574, 111_320), (45, 111_132, 78_847), (60, 111_412, 55_800)):
        assert metres_per_degree(latitude) == pytest.approx((north, east), abs=1.0)


# -- receivers --------------------------------------------------------------------------------------------------------------


def test_positions_add_up_to_a_first_fix_a_mean_and_circles() -> None:
    result = heard(receiver(sky="fix_in = 20\nlatitude = -33.5\nlongitude = 151.25\n"), duration=600)
    found = result.position
    assert found and result.verdict is Verdict.DONE
    # The rig's time begins five seconds before, with the module's start.
    assert found.first_fix == pytest.approx(15, abs=1.1) and found.counted_from == "listening began"
    north, east = metres_per_degree(-33.5)
    assert abs(found.latitude - -33.5) * north < 3 and abs(found.longitude - 151.25) * east < 3  # type: ignore[operator]
    assert 0 < found.radius_50 < found.radius_95 < 10 and found.radius_error < 0.1  # type: ignore[operator]
    assert found.reports == 600 and found.fixes == pytest.approx(585, abs=2)
    systems = {one.system for one in result.satellites}
    assert systems == {"GPS", "GLONASS", "Galileo", "BeiDou"}
    assert all(not one.used for one in result.satellites if (one.elevation or 0) < 1)
    assert {one.system for one in heard(receiver(talker="GP"), duration=60).satellites} == {"GPS"}


@pytest.mark.parametrize(("action", "takes"), [("cold-start", 4.0), ("warm-start", 3.0), ("hot-start", 1.5)])
def test_cold_warm_and_hot_starts_take_their_time_to_the_first_fix(action: str, takes: float) -> None:
    # It has a fix when listening begins: otherwise each start would be a cold one.
    result = heard(receiver(sky="fix_in = 4\nwarm_fix_in = 3\n"), duration=120, until="fix", action=action)
    assert result.position and result.position.counted_from == "its start"
    assert result.position.first_fix == pytest.approx(takes, abs=1.1)
    assert result.reached and result.reached < takes + 3 and result.starts == 1


def test_a_receiver_that_moves_is_told_where_it_is_and_a_roof_gives_no_fix() -> None:
    fast = heard(receiver(sky="knots = 20\ncourse = 90\n"), duration=120)
    assert fast.position and fast.position.radius_95 > 300  # type: ignore[operator]
    events: list[HeardEvent] = []
    roof = heard(receiver(sky="satellites = 0\n"), events.append, duration=60, until="fix")
    assert roof.verdict is Verdict.FAILED and roof.failure
    assert "fix did not come within 1 min" in roof.failure.what and "open sky" in roof.failure.next
    assert roof.position and roof.position.fixes == 0 and roof.position.latitude is None
    few = heard(receiver(sky="satellites = 2\n", talker="GP"), duration=30)
    assert any("2 of 2 satellites are heard, four are needed" in one for one in few.remarks)


def test_a_start_in_the_middle_is_where_the_time_to_the_first_fix_counts_from() -> None:
    one = Bench("polmar-p1")
    one.agenda.after(60, one.standin.restart)
    ears = Ears(one.lexicon, ListenOrder(duration=120), lambda event: None)
    one.agenda.run_until(1)
    result = listen(one.session(ears), ears).result
    assert result.position and result.position.counted_from == "its start" and result.starts == 1
    # It was cold the first time, and knows its satellites now.
    assert result.position.first_fix == pytest.approx(1.5, abs=1.1) and result.position.lost == 0
    assert any("the module started 1 time" in one for one in result.remarks)


def test_a_fix_that_was_there_already_is_no_first_fix() -> None:
    result = heard(receiver(sky="fix_in = 2\n"), duration=30)
    assert result.position and result.position.first_fix is None and result.position.fixes == 30
    assert any("the time to the first fix was not observed" in one for one in result.remarks)


def test_what_is_damaged_is_counted_and_never_decoded() -> None:
    path = receiver(out='["GGA"]')
    path.write_text(path.read_text().replace("[air.sky]", "faults = { noise = 0.001 }\n[air.sky]"))
    events: list[HeardEvent] = []
    result = heard(path, events.append, duration=120)
    assert result.damaged > 3 and result.position
    assert result.position.reports + result.damaged >= 100 and result.position.radius_95 < 30  # type: ignore[operator]


def test_sentences_that_exceed_the_rate_are_refused_with_the_sum() -> None:
    sheet = 'format = 1\n[seat.one]\nlexicon = "polmar-p1"\n[seat.one.settings]\nsentences = "GGA+RMC+GSA"\n'
    sheet += 'interval = "{}"\nrate = {}\n'
    Path("fast.toml").write_text(sheet.format("200ms", 9600))
    refused = wexicon("rehearse", "fast.toml", status=2).stderr
    assert "GGA 82 + RMC 78 + GSA 68 = 228 bytes every 200ms are 11,400 bit/s, at 9600 baud" in refused
    Path("fast.toml").write_text(sheet.format("200ms", 19200))
    assert "conforms" in wexicon("rehearse", "fast.toml").stdout
    # What the order leaves open counts as the module has it: all four systems, whose GSA and GSV come several times.
    one = Bench("polmar-p1", talker="GN", every=10)
    session = one.open()
    wanted: dict[str, Any] = {"sentences": "GGA+RMC+GSV+GSA"}
    result = provision(Module(session, one.lexicon, one.operator), Order(wanted))
    assert result.failure and "GSV 840" in result.failure.what and "Nothing was changed" in str(result.failure.next)
    assert one.standin.flash["out"] == ("GGA", "RMC", "GSA") and session.changes == 0


# -- power saving -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("duration", [HOUR, DAY])
def test_power_saving_keeps_what_the_network_granted(duration: float) -> None:
    path = rig(f'standin = "cordal-n7"\nsettings = {{ {SAVING} }}', '[air.network]\nactive_time = "00100001"\n')
    result = heard(path, duration=duration, ask=True)
    active, periodic = result.timers
    assert (active.asked, active.granted, periodic.asked, periodic.granted) == (120, 60, 3600, 3600)
    times = int(duration // HOUR)
    assert active.observed == times and periodic.observed == times - 1
    for one in (active, periodic):
        for seen in (one.least, one.median, one.most):
            assert seen is None or seen == pytest.approx(one.granted, abs=1)
    assert active.deviations == ["active: the network grants 1 min 00 s where 2 min 00 s was asked"]
    assert periodic.deviations == []
    assert (active.within, periodic.within) == (active.observed, periodic.observed)
    asleep = next(one for one in result.states if one.name == "sleep").seconds["asleep"]
    # Of each hour ten seconds are traffic, and a minute passes before it sleeps.
    assert asleep == pytest.approx(duration - times * 70, abs=30)


def _sentence(body: str) -> str:
    return f"${body}*{reduce(xor, body.encode()):02X}"


def test_why_there_is_no_fix_is_said_as_far_as_the_sentences_tell() -> None:
    seen = Positions()
    assert seen.why_not().startswith("no sentence that reports a position came")
    seen.take(0.0, parse(_sentence("GPGGA,070000.00,,,,,0,00,99.9,,M,,M,,")))
    assert seen.why_not().startswith("no GSV sentence came")
    seen.take(0.1, parse(_sentence("GPGSV,1,1,00")))
    assert seen.why_not().startswith("it sees no satellite")
    seen.take(0.2, parse(_sentence("GPGSV,1,1,02,05,40,083,31,12,10,120,")))
    assert seen.why_not().startswith("1 of 2 satellites are heard")
    seen.take(0.3, parse(_sentence("GPGSV,1,1,04,05,40,083,31,12,10,120,20,14,30,120,22,15,35,120,28")))
    assert seen.why_not().startswith("4 satellites are heard")
    assert seen.take(0.4, parse(_sentence("GPGGA,070001.00,5130.0000,N,00010.0000,W,1,04,2.0,10.0,M,47.0,M,,")))


def test_parts_of_two_messages_are_not_mixed() -> None:
    ears = Ears(None, ListenOrder(), lambda event: None)
    whole = [
        ears.join(at, "+44", text, part, reference)
        for at, text, part, reference in (
            (1, "low ", "1 of 2", "7"),
            (2, "tide", "2 of 2", "8"),
            (3, "water", "2 of 2", "7"),
            (4, "spring ", "1 of 2", "8"),
            (5, "alone", "1 of 2", "9"),
        )
    ]
    assert whole == [False, False, True, True, False]
    assert [one.text for one in ears.messages] == ["low water", "spring tide"]
    assert ears.halves() == ["1 of 2 parts of a message from +44 came"]


def test_what_is_read_later_is_compared_with_what_was_observed_before() -> None:
    track = TimerTrack(Timer(setting="active", begins=("link", "idle"), ends=("sleep", "asleep")))
    for at in (0.0, 100.0, 200.0):
        track.changed(at, "link", "connected", "idle")
        track.changed(at + 60.0, "sleep", "awake", "asleep")
    assert track.summary().within is None and track.summary().observed == 3
    track.read(120.0, None)
    assert track.summary().within == 0 and "came early 3 of 3 times" in track.differences()[0]
    track.read(120.0, 60.0)
    assert track.summary().within == 3 and track.differences() == []
    track.changed(300.0, "link", "connected", "idle")
    track.changed(361.5, "sleep", "awake", "asleep")
    assert track.summary().within == 3 and "came late 1 of 4 times" in track.differences()[0]


@pytest.mark.parametrize(
    ("more", "told"),
    [
        (
            "restless = 900",
            "periodic: sleep awake came early 3 of 3 times, after 15 min 00 s at the earliest, not 1 h 00 min",
        ),
        ("keeps_awake = 1", "active: no sleep asleep 1 time, though link idle lasted longer than 2 min 00 s"),
    ],
)
def test_a_module_that_wakes_too_often_or_does_not_sleep_is_named(more: str, told: str) -> None:
    one = Bench("cordal-n7", saving=1, link_report=1, report=4, active="00100010", periodic="00100001")
    name, _, value = more.partition(" = ")
    one.standin.flash[name] = int(value)
    one.standin.air.services["tide"] = "echo"
    one.standin.restart()
    ears = Ears(one.lexicon, ListenOrder(duration=HOUR, ask=True), lambda event: None)
    one.agenda.run_until(12)
    session = one.session(ears, tuning=one.standin.uart.tuning)
    if name == "keeps_awake":
        one.agenda.after(1, lambda: one.standin.line('AT+XOPEN=0,"TCP","tide",7'))  # type: ignore[attr-defined]
    result = listen(session, ears, Module(session, one.lexicon, one.operator, likely=[session.link.tuning])).result
    assert not result.failure, result.failure
    told_of = [text for timer in result.timers for text in timer.deviations]
    assert any(text.startswith(told) for text in told_of), told_of


@pytest.mark.parametrize(("passed", "missed"), [(60.9, 0), (61.5, 1)])
def test_a_timer_was_missed_only_beyond_the_tolerance(passed: float, missed: int) -> None:
    track = TimerTrack(Timer(setting="active", begins=("link", "idle"), ends=("sleep", "asleep")))
    track.read(120.0, 60.0)
    track.changed(0.0, "link", "connected", "idle")
    track.changed(passed, "link", "idle", "connected")
    assert track.missed == missed
    assert any("no sleep asleep 1 time" in text for text in track.differences()) is bool(missed)


def test_a_start_that_was_asked_for_is_no_surprise_and_a_second_one_is() -> None:
    path = receiver()
    told = heard(path, duration=30.0, action="cold-start")
    assert told.starts == 1 and not any("started" in text for text in told.remarks)
    one = Bench("polmar-p1")
    ears = Ears(one.lexicon, ListenOrder(duration=30.0, action="cold-start"), lambda event: None)
    one.agenda.after(20.0, one.standin.restart)
    session = one.session(ears, tuning=one.standin.uart.tuning)
    told = listen(session, ears, Module(session, one.lexicon, one.operator)).result
    assert told.starts == 2 and "the module started 2 times while listening" in told.remarks


def test_receptions_by_radio_are_counted_with_their_signal_over_time() -> None:
    relay = Bench("lindle-l9", addr=7)
    air, agenda = relay.standin.air, relay.agenda
    mast = family("lindle-l9")(agenda, "mast", {"addr": 1, "peer": 7}, {"serial": "L9-1"}, None, air)
    relay.standin.name = "relay"
    mast.power(True)
    agenda.run_until(2)
    for turn in range(20):
        # The mast drifts away: it is heard less and less.
        agenda.after(
            10 * turn + 1, lambda turn=turn: air.places.update(relay=Place(), mast=Place(east=0.5 + 0.2 * turn))
        )  # type: ignore[misc]
        agenda.after(10 * turn + 2, lambda turn=turn: mast.line(f"@send 7,tide {turn}"))  # type: ignore[attr-defined, misc]
    ears = Ears(relay.lexicon, ListenOrder(duration=300, only=("air",)), (events := []).append)
    session = relay.session(ears, tuning=relay.standin.uart.tuning)
    made = listen(session, ears)
    by_name = {one.name: one for one in made.result.series}
    count = made.result.events["air"]
    assert 5 < count <= 20 and len(events) == count and "nothing came" not in str(made.result.remarks)
    assert by_name["rssi"].unit == "dBm" and by_name["snr"].unit == "dB" and by_name["rssi"].count == count
    assert events[0].values["rssi"].endswith(" dBm") and events[0].values["data"] == "tide 0"
    signal = [point.mean for _, point in made.series["air", "rssi"][1].points()]
    assert signal == sorted(signal, reverse=True) and signal[0] - signal[-1] > 10


# -- messages, and what is in a module ---------------------------------------------------------------------------------------


def test_messages_that_come_are_read_and_put_together() -> None:
    from tests.rigs.test_cellular import HERE, THERE, two_phones
    from wexicon.core.standards import pdu

    one, two = two_phones()
    long = "Уровень воды у Старого парома поднимается быстро. " * 4
    for at, text in enumerate(("gale warning", long)):
        # The parts of a long one arrive in another order.
        for part, made in enumerate(reversed(pdu.submit(THERE, text, 9))):
            one.agenda.after(5 + 5 * at + part, partial(one.standin.passed_on, made, THERE, 1))  # type: ignore[attr-defined]
    events: list[HeardEvent] = []
    ears = Ears(two.lexicon, ListenOrder(duration=30, ask=True), events.append)
    session = two.session(ears, tuning=two.standin.uart.tuning)
    result = listen(session, ears, Module(session, two.lexicon, two.operator, likely=[session.link.tuning])).result
    assert [(row.sender, row.text) for row in result.messages] == [(HERE, "gale warning"), (HERE, long)]
    assert result.identity["sim"] and result.identity["imei"]
    told = [event.values for event in events if event.name == "message"]
    assert told[0] == {"sender": HERE, "message": "gale warning"} and told[-1]["message"] == long


def test_an_exchanged_sim_is_noticed() -> None:
    one = Bench("cordal-g2")
    session = one.open()
    module = Module(session, one.lexicon, one.operator)
    module.attention.gain([one.standin.uart.tuning])
    assert module.identify()["sim"] == "8900100000000000013"
    one.standin.own.update(iccid="8900100000000000777", imsi="001010000000777", number="+441632960777")
    module.identify_again(dict(module.identity))
    assert "the sim was exchanged: 8900100000000000013 before, 8900100000000000777 now" in module.attention.remarks


def test_an_exchanged_sim_is_noticed_in_the_next_run_by_the_register() -> None:
    Path("s.toml").write_text('format = 1\n[seat.watch]\nlexicon = "cordal-g2"\nsettings = { notify = true }\n')
    from tests.conftest import virtual

    unit = '[unit.phone]\nstandin = "cordal-g2"\n'
    with virtual(unit):
        assert "exchanged" not in wexicon("provision", "s.toml", "virtual://phone").stdout
    with virtual(unit + 'identity = { iccid = "8900100000000000777" }\n'):
        done = wexicon("provision", "s.toml", "virtual://phone").stdout
    shown = wexicon("units", "show", "watch").stdout
    assert "imei 001017000000013, sim 8900100000000000777, subscriber 001010000000013, number +441632960013" in shown
    assert "the sim was exchanged since" in done and "8900100000000000777 now" in done and "the subscriber" not in done


# -- the listener itself ----------------------------------------------------------------------------------------------------


def test_what_cannot_come_is_refused_before_anything_is_opened() -> None:
    for order in ({"until": "gg"}, {"only": ("gga", "nothing")}, {"action": "dance"}):
        with pytest.raises(CallFault, match="polmar-p1 has no"):
            heard(receiver(), duration=1, **order)


def test_only_some_events_are_shown_and_all_are_counted() -> None:
    events: list[HeardEvent] = []
    result = heard(receiver(), events.append, duration=10, only=("rmc",))
    assert {event.name for event in events} == {"rmc"} and result.events["gga"] == 10
    assert result.exchanges == 0


def test_a_trace_goes_on_in_parts_and_the_oldest_go(tmp_path: Path) -> None:
    from wexicon.core.protocol.observations import Heard, Role
    from wexicon.core.tuning import Tuning
    from wexicon.links.virtual import VirtualClock

    clock = VirtualClock(Agenda())
    path = tmp_path / "long.jsonl"
    writer = TraceWriter(path, clock, link="x", tuning=Tuning(), most=4000, parts=2)
    for number in range(400):
        writer.note(Heard(number, f"$line {number}", Role.UNMATCHED))
    writer.close()
    names = sorted(one.name for one in tmp_path.iterdir())
    assert names == ["long-1.jsonl", "long-2.jsonl", "long.jsonl"] and writer.dropped > 0
    texts = [one.content for name in ("long-2", "long-1", "long") for one in read_trace(tmp_path / f"{name}.jsonl")]
    numbers = [int(text.split()[1]) for text in texts if text.startswith("$line")]
    # Each part can be read by itself, and none is lost between the parts that are there.
    assert numbers == list(range(numbers[0], 400))


def test_nothing_grows_with_time() -> None:
    ears = Ears(Bench("polmar-p1").lexicon, ListenOrder(), lambda event: None)
    from wexicon.core.standards.gnss import with_checksum

    own = random.Random(1)
    scale = cos(radians(51))
    for number in range(30_000):
        minutes, east = 28 + own.gauss(0, 0.002), 59 + own.gauss(0, 0.002) / scale
        text = f"$GPGGA,080000.00,51{minutes:07.4f},N,002{east:07.4f},W,1,08,0.9,6.2,M,48.6,M,,"
        ears.positions.take(number * 0.1, parse(with_checksum(text)))
        ears.states.take(number, "sleep", "asleep" if number % 2 else "awake")
    assert len(ears.positions.scatter.cells) <= MOST_CELLS and len(ears.positions.hdop.bins) <= 512
    assert len(ears.states.tracks["sleep"].spans) <= 4096
    assert sum(ears.states.tracks["sleep"].seconds.values()) == 29_999
