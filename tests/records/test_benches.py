"""Several benches at one register, on a real PostgreSQL server: each unit once, whoever is killed and whatever is away."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SAMPLE, bench, clean, wexicon
from tests.records.server import PostgresServer
from tests.records.test_register import entry
from wexicon.records.register import Register

SHEET = """format = 1
title = "Marrow Estuary, all masts"
units = "all.csv"
[drawn.address]
first = 1
last  = 400
[seat.mast]
lexicon  = "lindle-l9"
each     = "row"
settings = { name = "mast {row.mast}", address = "{drawn.address}", network = 6 }
[agree]
different = ["address"]
"""
PORTS = 4
# A claim of a bench that died is released after seconds, not after twenty.
IMPATIENT = """
from wexicon.records import claims
claims.LEASE, claims.BEAT = 4.0, 0.5
from wexicon.cli.main import main
main()
"""
# `make campaign` does five times as many.
UNITS = int(os.environ.get("WEXICON_TEST_UNITS", "40"))


@pytest.fixture(scope="module")
def server() -> Iterator[PostgresServer]:
    made = PostgresServer()
    yield made
    made.close()


@pytest.fixture
def running() -> Iterator[list[subprocess.Popen[str]]]:
    """Processes that end with the test, however it ends."""
    found: list[subprocess.Popen[str]] = []
    yield found
    for one in found:
        one.kill()
        one.wait()


def radios(first: int) -> str:
    """A rig of so many ports; the modules that are swapped in on one have serial numbers of their own."""
    return "".join(
        f'[unit.r{first + n}]\nstandin = "lindle-l9"\nidentity = {{ serial = "L9-{first + n}0001" }}\n'
        for n in range(PORTS)
    )


def at_bench(name: str, url: str, folder: Path, *words: str) -> subprocess.Popen[str]:
    own = {"WEXICON_BENCH": name, "WEXICON_STATE": str(folder / f"state-{name}"), "WEXICON_REGISTER": url}
    ports = [f"r{(1 if name == 'left' else 3) * 10 + n}" for n in range(PORTS)]
    command = ["provision", "all.toml", *ports, "--operator", "rig", "--prove", "reading", *words]
    with (folder / f"{name}.log").open("a") as log:
        return subprocess.Popen(
            [sys.executable, "-c", IMPATIENT, *command], env=clean(own), stdout=log, stderr=log, text=True
        )


@pytest.mark.campaign
def test_two_benches_provision_all_units_once_though_one_is_killed_and_the_server_is_away(
    server: PostgresServer, tmp_path: Path, running: list[subprocess.Popen[str]]
) -> None:
    Path("all.toml").write_text(SHEET)
    Path("all.csv").write_text("mast\n" + "".join(f"{number:03}\n" for number in range(1, UNITS + 1)))
    register = Register(server.url, tmp_path / "none")
    flash: dict[str, int] = {}

    def finished() -> dict[str, Any]:
        return {one.name: one for one in register.latest(sheet="all masts", verdict="conforms", wrote=True)}

    with bench(radios(10) + radios(30)) as rig:
        for unit in rig.rig.units.values():
            # What leaves a port is looked at as it is, whatever was said of it.
            def swapped(module: Any = unit.standin, another: Any = unit.standin.another) -> None:
                flash[module.own["serial"]] = module.flash["addr"]
                another()

            unit.standin.another = swapped  # type: ignore[method-assign]
        left, right = at_bench("left", server.url, tmp_path), at_bench("right", server.url, tmp_path)
        running += [left, right]
        while len(finished()) < UNITS // 4 or not any(one.bench == "left" for one in register.all_unfinished()):
            assert left.poll() is None and right.poll() is None, (tmp_path / "left.log").read_text()[-2000:]
            time.sleep(0.2)
        os.kill(left.pid, signal.SIGKILL)
        left.wait()
        server.stop()
        time.sleep(1)
        server.start()
        # What was begun on a module of the left bench is made on that module only.
        assert right.wait(300) == 1, (tmp_path / "right.log").read_text()[-3000:]
        told = (tmp_path / "right.log").read_text()
        begun = {name for name in told.split("\n") if "is unfinished on lindle-l9 L9-1" in name}
        assert 0 < UNITS - len(finished()) <= PORTS and len(begun) == UNITS - len(finished()), told[-3000:]
        again = at_bench("left", server.url, tmp_path, "--resume")
        running.append(again)
        assert again.wait(120) == 0, (tmp_path / "left.log").read_text()[-3000:]
        for unit in rig.rig.units.values():
            flash[unit.standin.own["serial"]] = unit.standin.flash["addr"]
    made = finished()
    modules = {one.unit.split()[-1]: one for one in made.values()}
    assert sorted(made) == [f"mast {number:03}" for number in range(1, UNITS + 1)] and len(modules) == UNITS
    addresses = {serial: int(value(one, "address")) for serial, one in modules.items()}
    assert sorted(addresses.values()) == list(range(1, UNITS + 1))
    assert addresses == {serial: flash[serial] for serial in modules}
    # No other module has one of these addresses, and no unit has two records.
    assert sorted(addr for addr in flash.values() if addr in range(1, UNITS + 1)) == sorted(addresses.values())
    assert all(len(register.history(one.unit)) == 1 for one in made.values())
    assert {one.bench for one in made.values()} == {"left", "right"} and register.all_unfinished() == []


def value(one: Any, name: str) -> str:
    return next(line.after.shown for line in one.result.settings if line.name == name)


def test_records_wait_while_the_server_is_away_and_go_in_once(server: PostgresServer, tmp_path: Path) -> None:
    register = Register(server.url, tmp_path / "waiting")
    assert register.keep(entry("lindle-l9 L9-7"))
    server.stop()
    assert not register.keep(entry("lindle-l9 L9-8"))
    Path("one.toml").write_text('format = 1\n[seat.radio]\nlexicon = "lindle-l9"\nsettings = { network = 6 }\n')
    with bench('[unit.radio]\nstandin = "lindle-l9"\n'):
        told = wexicon("provision", "one.toml", "radio", env=clean({"WEXICON_REGISTER": server.url}))
        assert "conforms" in told.stdout and "queued on disk" in told.stderr
        server.start()
        listed = wexicon("units", "list", "--register", server.url, "--sheet", "one.toml").stdout
    assert listed.count("one.toml") == 1 and register.flush_pending() == 1 and len(register.history("L9-8")) == 1
    # A user that may not write is told so, and nothing is waited for.
    with server.connect() as connection:
        connection.execute("create role reader login")
        connection.execute("grant select on all tables in schema public to reader")
    for name in ("masts.toml", "mast-heard.wex"):
        shutil.copy(SAMPLE / name, tmp_path)
    shutil.copy(SAMPLE / "masts.csv", tmp_path)
    reader = server.url.replace("bench@", "reader@")
    refused = wexicon("provision", "masts.toml", "/dev/null", "--row", "M1", "--register", reader, status=2)
    assert "the register refused: permission denied" in refused.stderr
    secret = server.url.replace("bench@", "bench:Tide-Gate-9@").replace("postgres", "nothing", 2)
    for words in (
        ("units", "list", "--register", secret),
        ("provision", "one.toml", "/dev/null", "--register", secret),
    ):
        told = subprocess.run([sys.executable, "-m", "wexicon", *words], capture_output=True, text=True)
        assert told.returncode and "Tide-Gate-9" not in told.stdout + told.stderr
