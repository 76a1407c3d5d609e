"""The pytest plug-in, as a project uses it: tests are run by pytest in a folder of their own."""

from __future__ import annotations

import xml.etree.ElementTree as ET

import numpy  # noqa: F401  (pytester forgets what a run imports; numpy cannot be imported twice)
import pytest

RIG = 'format = 1\n[unit.mast]\nstandin = "lindle-l9"\n[unit.relay]\nstandin = "lindle-l9"\n'


@pytest.fixture
def ran(pytester: pytest.Pytester) -> pytest.Pytester:
    pytester.makeini("[pytest]\n")
    return pytester


def test_a_stand_in_hears_what_is_said_and_a_failure_shows_it(ran: pytest.Pytester) -> None:
    ran.makepyfile(
        """
        import pytest, serial

        def asked(port):
            with serial.Serial(port, 115200, timeout=5) as link:
                link.read_until(b"READY\\r\\n")
                link.write(b"AT\\r\\n")
                link.read_until(b"OK\\r\\n")

        @pytest.mark.wexicon_standin("brisca-w1", settings={"name": "quay"})
        def test_right(wexicon_standin, wexicon_port):
            assert wexicon_port == wexicon_standin.port
            assert wexicon_standin.stored("name") == "quay"
            asked(wexicon_port)
            wexicon_standin.conversation.expect_answered("AT", "OK")
            with pytest.raises(KeyError):
                wexicon_standin.stored("colour")

        @pytest.mark.wexicon_standin("brisca-w1")
        def test_wrong(wexicon_standin):
            asked(wexicon_standin.port)
            wexicon_standin.power_cut()
            wexicon_standin.conversation.expect_back()
        """
    )
    result = ran.runpytest_inprocess()
    result.assert_outcomes(passed=1, failed=1)
    result.stdout.fnmatch_lines(
        ["*after the power came on the firmware said nothing", "*> AT", "*< OK", "*# power off", "*->*# power on"]
    )
    assert "conversation with module" not in result.stdout.str()
    assert "conversation.py" not in result.stdout.str()


def test_what_was_said_is_shown_where_another_assertion_fails(ran: pytest.Pytester) -> None:
    ran.makepyfile(
        """
        import pytest, serial

        @pytest.mark.wexicon_standin("tamsel-k6")
        def test_wrong(wexicon_standin):
            with serial.Serial(wexicon_standin.port, 9600, timeout=2) as port:
                port.write(b"AT")
                assert port.read(2) == b"NO"
        """
    )
    result = ran.runpytest_inprocess()
    result.assert_outcomes(failed=1)
    result.stdout.fnmatch_lines(["*conversation with module, a tamsel-k6*", "*> AT"])


def test_a_rig_file_by_mark_by_option_and_by_configuration(ran: pytest.Pytester) -> None:
    ran.makefile(".toml", rig=RIG)
    ran.makepyfile(
        """
        import pytest

        @pytest.mark.wexicon_rig("rig.toml")
        def test_marked(wexicon_rig):
            assert sorted(wexicon_rig) == ["mast", "relay"]
            assert wexicon_rig["mast"].port != wexicon_rig["relay"].port

        def test_given(wexicon_rig):
            assert sorted(wexicon_rig) == ["mast", "relay"]

        def test_which(wexicon_standin):
            pass
        """
    )
    result = ran.runpytest_inprocess("--wexicon-rig", "rig.toml")
    result.assert_outcomes(passed=2, errors=1)
    result.stdout.fnmatch_lines(["*LookupError: the rig has mast, relay: take one by wexicon_rig?NAME?"])
    ran.makeini("[pytest]\nwexicon_rig = rig.toml\n")
    ran.runpytest_inprocess().assert_outcomes(passed=2, errors=1)
    ran.makeini("[pytest]\n")
    result = ran.runpytest_inprocess()
    result.assert_outcomes(passed=1, errors=2)
    result.stdout.fnmatch_lines(["*test_given: which stand-in? Mark it wexicon_standin(FAMILY)*"])


def test_what_needs_hardware_is_skipped_and_a_named_port_is_used(ran: pytest.Pytester) -> None:
    ran.makepyfile(
        """
        import pytest

        @pytest.mark.wexicon_hardware
        def test_real(wexicon_port):
            assert wexicon_port == "/dev/ttyUSB7"
        """
    )
    result = ran.runpytest_inprocess("-rs")
    result.assert_outcomes(skipped=1)
    result.stdout.fnmatch_lines(["*needs a real module: --wexicon-port PORT"])
    ran.runpytest_inprocess("--wexicon-port", "/dev/ttyUSB7").assert_outcomes(passed=1)


def test_a_module_is_used_by_its_lexicon_and_its_identity_is_in_the_junit_file(ran: pytest.Pytester) -> None:
    ran.makepyfile(
        """
        import pytest, wexicon

        @pytest.mark.wexicon_standin("lindle-l9")
        def test_name(wexicon_module, wexicon_standin):
            result = wexicon.set_values(wexicon_module, {"name": "Withy"})
            assert result.verdict is wexicon.Verdict.CONFORMS
            assert wexicon_standin.stored("name") == "Withy"
            wexicon_standin.conversation.expect_order("@name=Withy", "@save")
        """
    )
    ran.runpytest_inprocess("--junitxml=report.xml").assert_outcomes(passed=1)
    properties = {one.get("name"): one.get("value") for one in ET.parse("report.xml").iter("property")}
    assert properties["wexicon-lexicon"] == "lindle-l9"
    assert "L9-00417" in str(properties["wexicon-identity"])


def test_nothing_is_written_to_the_users_folders(ran: pytest.Pytester, monkeypatch: pytest.MonkeyPatch) -> None:
    state = ran.path / "mine"
    monkeypatch.setenv("WEXICON_STATE", str(state))
    ran.makepyfile(
        """
        import pytest, wexicon

        @pytest.mark.wexicon_standin("lindle-l9")
        def test_read(wexicon_module):
            assert wexicon.read(wexicon_module).identity["serial"] == "L9-00417"
        """
    )
    ran.runpytest_inprocess().assert_outcomes(passed=1)
    assert not state.exists()


def test_virtual_time_and_a_result_in_the_junit_file(ran: pytest.Pytester) -> None:
    ran.makepyfile(
        """
        import time
        import pytest, wexicon

        @pytest.mark.wexicon_standin("brisca-w1")
        def test_virtual(wexicon_virtual):
            port = wexicon_virtual.port
            port.baudrate, port.timeout = 115200, 3600
            assert port.read_until(b"READY\\r\\n").endswith(b"READY\\r\\n")
            assert port.readline() == b""
            port.timeout = 1
            port.write(b'AT+NAME="quay"\\r\\n')
            assert port.read_until(b"OK\\r\\n").endswith(b"OK\\r\\n")
            port.write(b"AT+STORE\\r\\n")
            assert port.read_until(b"OK\\r\\n").endswith(b"OK\\r\\n") and port.in_waiting == 0
            wexicon_virtual.power_cut(600)
            port.read_until(b"READY\\r\\n")
            port.write(b"AT+NAME?\\r\\n")
            assert b'"quay"' in port.read(60)
            assert wexicon_virtual.stored("name") == "quay"
            wexicon_virtual.conversation.expect_back()
            wexicon_virtual.conversation.expect_silence('AT+NAME?', 600)

        @pytest.mark.wexicon_standin("brisca-w1")
        def test_shown(wexicon_virtual):
            wexicon_virtual.port.write(b"AT\\r\\n")
            assert wexicon_virtual.port.read(99) == b"x"

        @pytest.mark.wexicon_standin("lindle-l9")
        def test_recorded(wexicon_module, wexicon_record):
            wexicon_record(wexicon.set_values(wexicon_module, {"name": "Withy"}))
        """
    )
    result = ran.runpytest_inprocess("--junitxml=report.xml")
    result.assert_outcomes(passed=2, failed=1)
    result.stdout.fnmatch_lines(["*conversation with module, a brisca-w1*"])
    properties = {one.get("name"): one.get("value") for one in ET.parse("report.xml").iter("property")}
    assert properties["wexicon-verdict"] == "conforms" and properties["wexicon-evidence"] != "none"
    assert properties["wexicon-unit"] == "L9-00417"
