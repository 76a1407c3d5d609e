"""Manners that need a module to be spoken to in the wrong way first."""

from __future__ import annotations

from msgspec.structs import replace

from tests.conftest import Bench
from tests.rigs.test_air import hold
from wexicon.core.protocol.observations import Logged


def test_a_wrong_line_end_is_found_out() -> None:
    one = Bench("lindle-l9")
    one.lexicon = replace(one.lexicon, dialect=one.lexicon.dialect.with_end("crlf"))
    assert one.provision(address=5).verdict == "conforms"
    assert "the module needs line ending lf, not crlf as the lexicon says" in one.trace.texts(Logged)


def test_a_busy_module_is_told_again() -> None:
    one = Bench("brisca-w1")
    held = hold(one, "> AT+SEEK\n<\npause 100ms\nread power\nkeep power\n")
    assert held.kept["power"] == 20
    assert one.trace.said().count("AT+POWER?") > 3


def test_attention_that_a_command_ended_is_taken_back() -> None:
    one = Bench("tamsel-k5")
    module = one.module()
    module.attention.gain()
    module.do("save")
    module.do("restart")
    assert not module.attention.held
    module.session.quiet(0.5)
    assert one.standin.mode != "whole"  # type: ignore[attr-defined]
    assert module.read("name") == "TAMSEL-K5" and module.attention.held
    assert len(one.operator.asked) == 2
