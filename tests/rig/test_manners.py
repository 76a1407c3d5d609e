"""Manners that need a module to be spoken to in the wrong way first."""

from __future__ import annotations

import msgspec

from tests.conftest import VirtualBench
from tests.rig.test_air import hold
from wexicon.work.hail import Hail
from wexicon.work.module import Module


def test_a_wrong_line_end_is_found_out() -> None:
    one = VirtualBench("lindle-l9")
    speech = msgspec.structs.replace(one.lexicon.speech, end="crlf")
    one.lexicon = one.lexicon.__class__(**{**one.lexicon.__dict__, "speech": speech})
    assert one.provision(address=5).outcome == "conforms"
    assert "the module wants line end lf, not crlf" in one.trace.texts("decided")


def test_a_busy_module_is_told_again() -> None:
    one = VirtualBench("brisca-w1")
    held = hold(one, "> AT+SEEK\n<\npause 100ms\nread power\nkeep power\n")
    assert held.kept["power"] == 20
    assert one.trace.texts("said").count("AT+POWER?") > 3


def test_attention_that_a_command_ended_is_taken_back() -> None:
    one = VirtualBench("tamsel-k5")
    session = one.session()
    module = Module(session, one.lexicon, one.hands)

    def hail() -> None:
        Hail(session, one.lexicon, one.hands, 10).find()

    module.regain = hail
    module.do("save")
    module.do("restart")
    assert not module.attentive and one.standin.mode != "whole"  # type: ignore[attr-defined]
    assert module.read("name") == "TAMSEL-K5" and module.attentive
    assert len(one.hands.asked) == 2
