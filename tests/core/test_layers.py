"""Layers around frames and lines: each alone, stacked, and at any split of the bytes."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.core.protocol.dialect import Dialect, Expectation, ReplyStatus, Want
from wexicon.core.protocol.elements import in_digits
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.exchange import Exchange
from wexicon.core.protocol.fields import NUMBERS, FieldFault, NumberForm, field
from wexicon.core.protocol.framing import Corrupt, Foreign, FrameCutter
from wexicon.core.protocol.insertion import InsertionFault, Template
from wexicon.core.protocol.layers import FrameChecksum, Length, MarkLayer, Numbering, StationLayer
from wexicon.core.protocol.observations import Role
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Layers, Speech


def layers(*tables: dict[str, object]) -> Layers:
    return msgspec.convert(list(tables), Layers)


U8, U16 = NumberForm("u8", 1), NumberForm("u16", 2)
MARKED = Speech(
    end="none",
    answer="frames",
    echo="off",
    ok=(),
    error=("FF {code:u8}",),
    closing="alone",
    layers=layers(
        {"layer": "mark", "mark": "C6 3D"},
        {"layer": "checksum", "check": "fletcher-8", "form": "u16le"},
        {"layer": "length", "at": 1, "form": "u16le"},
        {"layer": "number"},
    ),
)
NUMBERED = Speech(
    closing="alone",
    echo="off",
    layers=layers(
        {"layer": "checksum", "check": "sum", "before": " *", "start": 1},
        {"layer": "station", "form": "digits(2)", "before": "#", "after": " ", "usual": 7},
    ),
)


@given(st.sampled_from(NUMBERS), st.data())
def test_a_number_goes_through_its_field_and_back(form: str, data: st.DataObject) -> None:
    made = field(form)
    assert isinstance(made, NumberForm)
    bits = 8 * made.size
    low, high = (-(1 << bits - 1), (1 << bits - 1) - 1) if made.signed else (0, (1 << bits) - 1)
    number = data.draw(st.integers(low, high))
    digits = made.hex_of(str(number))
    assert made.of_hex(digits) == number and len(digits) == 2 * made.size
    found = Pattern(f"A0{{x:{form}}}").match(f"A0{digits}")
    assert found == {"x": number}
    with pytest.raises(FieldFault):
        made.put(high + 1)


@pytest.mark.parametrize(
    ("template", "value", "said"),
    [
        ("10 {v|u16}", "1000", "10 03E8"),
        ("10 {v|u16le}", "1000", "10 E803"),
        ("10 {v|i8}", "-3", "10 FD"),
        ("10 {v|i24le}", "-2", "10 FEFFFF"),
        ("10 {v|chars(4)}", "ab", "10 61620000"),
        ("10 {v|chars}", "ab", "10 6162"),
        ("10 {v|chars(u8)}", "ab", "10 026162"),
        ("10 {v|digits(3)}", "7", "10 303037"),
    ],
)
def test_values_are_said_as_fields_and_heard_again(template: str, value: str, said: str) -> None:
    filled = Template(template).fill({"v": value}).text
    assert filled == said
    if "digits" not in template:
        heard = Pattern(in_digits(template.replace("|", ":"))).match(said.replace(" ", ""))
        assert heard is not None and str(heard["v"]) == value


@pytest.mark.parametrize(
    ("form", "value"),
    [("u8", "256"), ("u8", "-1"), ("i8", "128"), ("chars(2)", "abc"), ("u16", "1.5"), ("chars(u8)", "x" * 256)],
)
def test_what_does_not_fit_a_field_is_refused(form: str, value: str) -> None:
    with pytest.raises(InsertionFault, match="v cannot be written as"):
        Template(f"10{{v|{form}}}").fill({"v": value})


def test_text_behind_its_length_is_taken_whole_among_others() -> None:
    pattern = Pattern(in_digits("90 {a:chars(u8)} 01 {b:chars(u16le)} {c:u8}"))
    assert pattern.match("90" + "024D34" + "01" + "0100" + "41" + "FF") == {"a": "M4", "b": "A", "c": 255}
    assert pattern.match("90" + "094D34" + "01") is None and pattern.match("90") is None


def test_each_layer_puts_on_what_it_takes_off() -> None:
    for layer in (
        MarkLayer(b"\xc6\x3d"),
        Length(U16, at=1),
        Length(U8, at=0, plus=3),
        FrameChecksum("crc-16/modbus", NumberForm("u16le", 2, order="little")),
        StationLayer(U8, 1),
        Numbering(U8),
    ):
        data = layer.around(b"\x10abc")
        assert layer.inside(data) == b"\x10abc" and len(data) > 4
        assert isinstance(
            layer.inside(data[:-1] if isinstance(layer, FrameChecksum | Length) else b"\xee" + data[1:]),
            Corrupt | Foreign,
        )


def test_numbers_and_stations_of_others_never_answer() -> None:
    numbering = Numbering(U8, first=1, last=2)
    assert [numbering.around(b"x")[0] for _ in range(3)] == [1, 2, 1]
    assert numbering.inside(b"\x01a") == b"a" and numbering.inside(b"\x00a") == b"a"
    assert numbering.inside(b"\x02a") == Corrupt("\x02a")
    station = StationLayer(NumberForm("digits(2)", 2, base=10), 7, b"#", b" ")
    assert station.around(b"NAME?") == b"#07 NAME?"
    station.station = 12
    assert station.around(b"NAME?") == b"#12 NAME?" and station.inside(b"#07 NAME=x") == Foreign("#07 NAME=x")
    assert station.inside(b"hello") == Corrupt("hello")


def exchanged(engine: Engine, say: str, hear: str) -> tuple[Exchange, bytes]:
    exchange = Exchange(engine.dialect, say, Expectation((Want(Pattern(in_digits(hear))),)), 0.0, 1.0)
    data = engine.encode(say)
    engine.begin(exchange, say)
    return exchange, data


def answer(engine: Engine, text: str) -> bytes:
    """What a module would send now."""
    return engine.dialect.encode(text, layers=[*engine._layers[:3], _Same(engine), *engine._layers[4:]])


class _Same(Numbering):
    """The number of the line that was said last."""

    def __init__(self, engine: Engine, number: int | None = None) -> None:
        super().__init__(U8)
        asked = engine._layers[3]
        assert isinstance(asked, Numbering)
        self.given = asked.number if number is None else number

    def around(self, data: bytes) -> bytes:
        return bytes([self.given or 0]) + data


@given(st.lists(st.integers(0, 60), max_size=4), st.binary(max_size=6))
def test_frames_are_the_same_at_any_split_and_behind_any_noise(cuts: list[int], noise: bytes) -> None:
    engine = Engine(Dialect(MARKED, {"report": Pattern("40{level:i8}")}))
    exchange, _ = exchanged(engine, "20", "A0 {name:chars(4)}")
    report = engine.dialect.encode("40FD", layers=[*engine._layers[:3], _Same(engine, 0), engine._layers[4]])
    data = noise + report + answer(engine, "A061620000")
    heard, last = [], 0
    for at in [*sorted(min(cut, len(data)) for cut in cuts), len(data)]:
        heard += engine.feed(data[last:at], 0.01)
        last = at
    heard += engine.elapse(0.5)
    told = [one for one in heard if one.role is not Role.CORRUPT]
    assert [one.text for one in told] == ["40FD", "A061620000"]
    assert told[0].name == "report" and told[0].values == {"level": -3}
    assert exchange.outcome.ok and exchange.outcome.captures == {"name": "ab"}


@given(st.integers(0, 200), st.integers(1, 255))
def test_a_changed_byte_is_never_an_answer(at: int, change: int) -> None:
    engine = Engine(Dialect(MARKED))
    exchange, _ = exchanged(engine, "20", "A0 {name:chars(4)}")
    data = bytearray(answer(engine, "A061620000"))
    data[at % len(data)] ^= change
    engine.feed(bytes(data), 0.01)
    engine.elapse(1.5)
    assert exchange.outcome.status is ReplyStatus.SILENCE


def test_an_answer_to_an_earlier_line_is_no_answer_to_this_one() -> None:
    engine = Engine(Dialect(MARKED))
    exchanged(engine, "20", "A0 {name:chars(4)}")
    late = answer(engine, "A061620000")
    engine.elapse(2.0)
    exchange, _ = exchanged(engine, "20", "A0 {name:chars(4)}")
    (heard,) = engine.feed(late, 0.1)
    assert heard.role is Role.CORRUPT
    engine.feed(answer(engine, "FF03"), 0.2)
    assert (exchange.outcome.status, exchange.outcome.code) == (ReplyStatus.ERROR, "3")


def test_a_right_frame_is_found_inside_a_wrong_one() -> None:
    engine = Engine(Dialect(MARKED))
    exchange, _ = exchanged(engine, "20", "A0 {name:chars(4)}")
    # A length that a disturbance made large: what follows would be swallowed.
    engine.feed(b"\xc6\x3d\x01\x30\x00\x11" + answer(engine, "A061620000"), 0.01)
    assert not exchange.state.name.startswith("END")
    engine.elapse(0.2)
    assert exchange.outcome.ok
    # One whose length is right for all of it, and whose sums are not.
    exchange, _ = exchanged(engine, "20", "A0 {name:chars(4)}")
    right = answer(engine, "A061620000")
    engine.feed(b"\xc6\x3d\x01" + bytes([len(right)]) + b"\x00" + right + b"\x00\x00", 0.3)
    assert exchange.outcome.ok and exchange.outcome.captures == {"name": "ab"}


@pytest.mark.parametrize("piece", [b"\xc6\x3d\x00\xf0\x0f", b"\xc6\x3d\x00\x01\x00", b"\xc6\x3d", b"\xc6"])
def test_the_work_of_cutting_is_in_proportion_whatever_comes(piece: bytes) -> None:
    summed = 0

    def whole(frame: bytes) -> bool:
        nonlocal summed
        summed += len(frame)
        return False

    cut, size = FrameCutter(b"\xc6\x3d", 3, NumberForm("u16le", 2, order="little"), 7, whole), 0
    for _ in range(200):
        cut.feed(piece * 100, 0.0)
        size += len(piece) * 100
        assert len(cut.pending) <= 8192
    assert summed <= 6 * size


def test_lines_carry_station_and_sum_and_are_told_from_those_of_others() -> None:
    engine = Engine(Dialect(NUMBERED))
    assert engine.encode("NAME?") == b"#07 NAME? *E7\r\n"
    engine.station = 8
    said = engine.encode("NAME?")
    assert said.startswith(b"#08 NAME? *")
    exchange, _ = exchanged(engine, "NAME?", "NAME={name}")
    answers = engine.dialect
    for line, role in (("NAME=other", Role.UNMATCHED), ("NAME=mine", Role.ANSWER)):
        engine.station = 9 if role is Role.UNMATCHED else 8
        data = answers.encode(line, layers=engine._layers)
        engine.station = 8
        (heard,) = engine.feed(data, 0.1)
        assert heard.role is role
    assert exchange.outcome.captures == {"name": "mine"}


@pytest.mark.parametrize(
    ("speech", "what"),
    [
        (Speech(answer="frames"), "cut by its one layer length"),
        (Speech(answer="lines", layers=layers({"layer": "length"})), "cut by its one layer length"),
        (Speech(answer="bytes 5ms", layers=layers({"layer": "checksum", "check": "crc-16/modbos"})), "crc-16/modbus"),
        (Speech(answer="bytes 5ms", layers=layers({"layer": "mark", "mark": "C6 3"})), "bytes in hexadecimal"),
        (Speech(layers=layers({"layer": "station", "form": "u9"})), "not the form of a number"),
        (Speech(answer="sentences", layers=layers({"layer": "number"})), "have no layers"),
    ],
)
def test_what_cannot_be_stacked_is_told(speech: Speech, what: str) -> None:
    assert any(key == "layers" and what in told for key, told in speech.faults())
