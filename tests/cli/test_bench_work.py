"""What is done by hand at a bench: a pass-through board, modules swapped on a port, mode pins; as the built program."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import bench, wexicon

BOARD = '[unit.mast]\nstandin = "lindle-l9"\nboard = { near = 9600, far = 9600 }\n'
JIG = "format = 1\n[bridge]\nrate = 9600\n"


def test_a_rate_is_changed_behind_a_board_with_enter_before_and_after() -> None:
    Path("jig.toml").write_text(JIG)
    with bench(BOARD) as rig:
        standin = rig.rig.units["mast"].standin
        words = ("set", rig.ports["mast"], "rate=57600", "-l", "lindle-l9", "--fixture", "jig.toml")
        plan = wexicon(*words, "--plan").stdout
        assert "operator" in plan and "lose contact" in plan and standin.memory["uart"] == 9600
        # In a pipe nobody can press Enter: nothing is written.
        assert "Enter cannot be pressed" in wexicon(*words, status=1).stderr
        assert standin.memory["uart"] == 9600
        one = Terminal(*words, columns=200)
        one.read("Press Enter to write it")
        assert standin.memory["uart"] == 9600
        one.type("\r")
        one.read("Then press Enter")
        assert standin.memory["uart"] == 57600
        wexicon("rig", "board", "mast", "57600")
        one.type("\r")
        assert one.end() == 0, one.text()
        assert "57600 baud" in one.text() and standin.flash["uart"] == 57600
        # Our side has stayed where it was, and later commands find the module through the board.
        told = wexicon("readout", rig.ports["mast"], "-l", "lindle-l9", "--fixture", "jig.toml").stdout
        assert "57600 baud" in told
    assert "no pass-through board" in _refused("[unit.mast]\nstandin = 'lindle-l9'\n", "rig", "board", "mast", "9600")


def _refused(rig: str, *words: str) -> str:
    with bench(rig):
        return wexicon(*words, status=2).stderr


def test_an_operator_statement_waits_for_enter() -> None:
    Path("lamp.wex").write_text('> @\noperator confirm "Is the lamp on?"\nnote "went on"\n> @\n')
    with bench('[unit.mast]\nstandin = "lindle-l9"\n') as rig:
        words = ("run", "lamp.wex", rig.ports["mast"], "-l", "lindle-l9")
        assert "Enter cannot be pressed" in wexicon(*words, status=1).stderr
        one = Terminal(*words, columns=160)
        one.read("Is the lamp on? Press Enter.")
        assert "went on" not in one.text()
        one.type("\r")
        assert one.end() == 0 and "went on" in one.text()


def test_a_module_is_swapped_in_from_the_shelf_and_back() -> None:
    units = "".join(
        f'[unit.{name}]\nstandin = "lindle-l9"\n{more}' for name, more in (("one", ""), ("two", "serve = 'shelf'\n"))
    )
    with bench(units) as rig:
        port = rig.ports["one"]
        serials = {name: unit.standin.own["serial"] for name, unit in rig.rig.units.items()}
        assert len(set(serials.values())) == 2  # each is a module of its own

        def here() -> str:
            return str(json.loads(wexicon("readout", port, "-l", "lindle-l9", "--json").stdout)["identity"]["serial"])

        assert here() == serials["one"]
        wexicon("rig", "swap", port, "two")
        assert here() == serials["two"]
        listed = {one["unit"]: one["port"] for one in json.loads(wexicon("rig", "ports", "--json").stdout)}
        assert listed == {"two": port}
        wexicon("set", "two", "network=6", "-l", "lindle-l9")
        wexicon("rig", "swap", "two", "one")
        assert here() == serials["one"]
        assert rig.rig.units["two"].standin.flash["net"] == 6 and rig.rig.units["one"].standin.flash["net"] == 1
        assert "already on this port" in wexicon("rig", "swap", port, "one", status=2).stderr
        assert "there is no unit three" in wexicon("rig", "swap", port, "three", status=2).stderr


def test_mode_pins_are_put_high_and_low() -> None:
    with bench('[unit.modem]\nstandin = "lindle-r2"\npins = { mode0 = true }\n') as rig:
        standin = rig.rig.units["modem"].standin
        assert standin.pins == {"mode0": True}
        wexicon("rig", "pin", "modem", "mode1", "high")
        assert standin.pins == {"mode0": True, "mode1": True}
        wexicon("rig", "pin", "modem", "mode0", "low")
        assert standin.pins["mode0"] is False
        assert "it has mode0, mode1" in wexicon("rig", "pin", "modem", "m0", "high", status=2).stderr


@pytest.mark.parametrize(
    ("unit", "told"),
    [
        ('standin = "lindle-l9"\nidentity = { serail = "L9-1" }', "did you mean serial"),
        ('standin = "lindle-l9"\nidentity = { serial = 7 }', "is not text in quotes"),
        ('standin = "lindle-l9"\nsettings = { addr = "7" }', "is not a whole number"),
        ('standin = "lindle-l9"\nsettings = { radio = [868100000, 12] }', "is not an array of 4 values"),
        ('standin = "lindle-r2"\npins = { mode7 = true }', "it has no such pin"),
    ],
)
def test_what_a_rig_file_says_of_a_unit_is_checked(unit: str, told: str) -> None:
    Path("r.toml").write_text(f"format = 1\n[unit.one]\n{unit}\n")
    assert told in wexicon("rig", "start", "r.toml", status=2).stderr


RESET = '[unit.screen]\nstandin = "brisca-w1"\nserve = "rfc2217"\nwiring = { dtr = "reset" }\n'


def test_a_module_that_starts_with_each_opening_is_named_and_kept_from_it_by_a_fixture() -> None:
    with bench(RESET) as rig:
        port = rig.ports["screen"]
        told = wexicon("hail", port).stdout
        assert "found: 115200" in told and "starts each time the port is opened" in told
        Path("idle.toml").write_text("format = 1\n[idle]\ndtr = false\n")
        told = wexicon("hail", port, "--fixture", "idle.toml").stdout
        assert "found: 115200" in told and "each time" not in told
        Path("odd.toml").write_text("format = 1\n[idle]\ncts = true\n")
        assert "is not one of dtr, rts" in wexicon("hail", port, "--fixture", "odd.toml", status=2).stderr


def test_opening_a_port_presses_no_key_and_cuts_no_power() -> None:
    unit = '[unit.plug]\nstandin = "tamsel-k5"\nserve = "rfc2217"\nwiring = { dtr = "service", rts = "!power" }\n'
    Path("jig.toml").write_text('format = 1\n[pin.key]\nline = "dtr"\n[pin.power]\nline = "rts"\ninverted = true\n')
    with bench(unit) as rig:
        standin = rig.rig.units["plug"].standin
        lives = standin._life
        Path("look.wex").write_text("pause 300ms\n")
        wexicon("run", "look.wex", rig.ports["plug"], "--fixture", "jig.toml")
        assert standin._life == lives and not standin.held
        wexicon("run", "look.wex", rig.ports["plug"])
        assert standin._life != lives  # as most systems open a port, it loses its power
