"""Topics of the UART: time on the wire, dividers of a clock, what two ends may differ by, how one rate looks at another.

The rule: what one rate looks like at another comes from the waveform, not from a table.
"""

from __future__ import annotations

from typing import Annotated

from wexicon.core.engineering import serial_lines
from wexicon.core.engineering.topic import Answer, Arg, CalcFault, Topic, digits, shown
from wexicon.core.text import to_bytes, to_text
from wexicon.core.tuning import HIGHEST_RATE, USUAL_RATES, Tuning

Rate = Annotated[float, Arg("rate in baud", "baud", 1, HIGHEST_RATE)]
Frame = Annotated[str, Arg("data bits, parity, stop bits, such as 8N1")]
# An error of the rate beyond this share is a risk: half of what two ends of 8N1 may differ by.
RISKY = 0.02


def _tuning(rate: float, frame: str) -> Tuning:
    try:
        return Tuning.of(round(rate), frame)
    except ValueError as fault:
        raise CalcFault(str(fault)) from None


def wire(
    rate: Rate,
    size: Annotated[int, Arg("characters", "B", 0, 10**9)] = 1,
    frame: Frame = "8N1",
    said: Annotated[int, Arg("bytes sent for each packet of a protocol", "B", 0, 10**9)] = 0,
    heard: Annotated[int, Arg("bytes of the answer to each", "B", 0, 10**9)] = 0,
    thinking: Annotated[float, Arg("how long the other end takes to answer", "s", 0, 3600)] = 0.0,
) -> Answer:
    """Time of characters on the wire, and the throughput of a protocol with its answers.

    `size` is the payload; with `said` and `heard` each packet of it is sent with overhead and answered.
    """
    answer, tuning = Answer(), _tuning(rate, frame)
    answer.give("bit", 1 / tuning.rate, "s")
    answer.give("character", tuning.wire_time(1), "s")
    answer.give("all of them", tuning.wire_time(size), "s")
    answer.step(f"{size} characters x {tuning.char_bits} bits / {tuning.rate} baud")
    if said or heard or thinking:
        said = said or size
        gives = serial_lines.throughput(size, said, heard, tuning, thinking)
        answer.give("throughput", gives, "bytes/s", f"{digits(gives)} bytes/s")
        best = tuning.rate / tuning.char_bits
        answer.give("of the line", gives / best * 100, "%")
        there, back = (shown(tuning.wire_time(one), "s") for one in (said, heard))
        answer.step(f"{size} bytes in {there} there + {back} back + {shown(thinking, 's')} in between")
    return answer


def divider(
    clock: Annotated[float, Arg("clock of the UART", "Hz", 1, 1e10)],
    rate: Rate,
    oversampling: Annotated[int, Arg("clock ticks for each bit", "", 1, 64)] = 16,
    fraction: Annotated[int, Arg("bits of the divider's fraction; 0: whole numbers only", "", 0, 16)] = 0,
    frame: Frame = "8N1",
) -> Answer:
    """Divider of a clock for a rate, the rate that comes of it, and its error.

    `fraction=4` is a divider in sixteenths. Try oversampling 8 where 16 gives too large an error.
    """
    answer, tuning = Answer(), _tuning(rate, frame)
    found = serial_lines.divider(clock, rate, oversampling, fraction)
    exact = clock / (oversampling * rate)
    told = f"{found.whole}" + (f" + {found.fraction}/{1 << fraction}" if fraction else "")
    answer.give("divider", found.whole + found.fraction / (1 << fraction), "", told)
    answer.give("rate", found.rate, "baud", f"{digits(found.rate, 7)} baud")
    answer.give("error", found.error * 100, "%", f"{found.error * 100:+.2f} %")
    answer.step(f"{shown(clock, 'Hz')} / ({oversampling} x {digits(rate, 7)}) = {digits(exact, 6)}")
    limit = serial_lines.tolerance(tuning, max(2, oversampling))
    answer.give("both ends may differ by", limit * 100, "%", f"{limit * 100:.2f} %")
    if abs(found.error) > limit:
        answer.note("this rate cannot work with this clock: the last bit is sampled wrongly")
    elif abs(found.error) > RISKY:
        answer.note("half of the tolerance is used up here; the other end has an error too")
    return answer


def mismatch(
    rate: Rate,
    other: Annotated[float, Arg("rate of the other end", "baud", 1, HIGHEST_RATE)],
    frame: Frame = "8N1",
    text: Annotated[str, Arg("what the other end sends")] = "OK\\r\\n",
) -> Answer:
    """Whether two rates understand each other, and how the bytes of one look at the other (from the waveform)."""
    from wexicon.core.standards.waveform import heard_at
    from wexicon.core.text import unescape

    answer, ours, theirs = Answer(), _tuning(rate, frame), _tuning(other, frame)
    differ = theirs.rate / ours.rate - 1
    limit = serial_lines.tolerance(ours)
    answer.give("difference", differ * 100, "%", f"{differ * 100:+.2f} %")
    answer.give("allowed", limit * 100, "%", f"{limit * 100:.2f} %")
    places = ours.char_bits - ours.stop + 0.5
    answer.step(
        f"the stop bit is sampled {places:g} bits after the start: half a bit less 1/16 is {limit * 100:.2f} % of that"
    )
    try:
        data = to_bytes(unescape(text))
    except ValueError as fault:
        raise CalcFault(f"text: {fault}") from None
    heard = heard_at(data, theirs, ours)
    answer.give("sent", to_text(data))
    answer.give("heard", to_text(heard))
    answer.give("heard in hexadecimal", heard.hex(" ") or "nothing")
    if heard == data and abs(differ) > limit:
        answer.note("these bytes happen to come through; others would not")
    return answer


def rates(
    clock: Annotated[float, Arg("clock of the UART", "Hz", 1, 1e10)],
    oversampling: Annotated[int, Arg("clock ticks for each bit", "", 1, 64)] = 16,
    fraction: Annotated[int, Arg("bits of the divider's fraction", "", 0, 16)] = 0,
) -> Answer:
    """The usual rates of a clock, each with its divider and error."""
    answer, rows = Answer(), []
    for rate in sorted(USUAL_RATES):
        try:
            found = serial_lines.divider(clock, rate, oversampling, fraction)
        except ValueError:
            rows.append((str(rate), "", "the clock is too slow", ""))
            continue
        told = f"{found.whole}" + (f" + {found.fraction}/{1 << fraction}" if fraction else "")
        worth = (
            "good"
            if abs(found.error) <= RISKY
            else "risky"
            if abs(found.error) < serial_lines.tolerance(Tuning())
            else "no"
        )
        rows.append((str(rate), told, f"{found.error * 100:+.2f} %", worth))
    answer.table(("rate (baud)", "divider", "error", "worth"), rows)
    return answer


TOPICS = (
    Topic(
        "wire",
        "UART",
        wire,
        ("rate=115200 size=1024", "rate=9600 size=128 said=132 heard=1 thinking=2ms"),
        ("throughput",),
    ),
    Topic(
        "clock",
        "UART",
        divider,
        ("clock=8MHz rate=115200", "clock=8MHz rate=115200 oversampling=8,16 fraction=0,4"),
        ("error",),
    ),
    Topic("rates", "UART", rates, ("clock=16MHz", "clock=8MHz fraction=4")),
    Topic("mismatch", "UART", mismatch, ("rate=9600 other=19200", "rate=115200 other=112000 text=AT")),
)
