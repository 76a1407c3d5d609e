"""The drivers against a stand-in of the Brisca W1, and against a module that misbehaves."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from wexicon.testing.standin import ServedStandIn

HERE = Path(__file__).parent
BRISCA = pytest.mark.wexicon_standin("brisca-w1")


@pytest.fixture(params=["python", "c"])
def driver(request: pytest.FixtureRequest, tmp_path: Path) -> list[str]:
    """The command that runs the driver, in Python or in C."""
    if request.param == "python":
        return [sys.executable, str(HERE / "driver.py")]
    compiler = shutil.which("cc")
    if not compiler:
        pytest.skip("there is no C compiler")
    program = tmp_path / "driver"
    subprocess.run(
        [compiler, "-Wall", "-Wextra", "-Werror", "-o", program, HERE / "driver.c", "-D_DEFAULT_SOURCE"], check=True
    )
    return [str(program)]


def run(driver: list[str], port: str, name: str = "quay 3", rate: int = 57_600) -> int:
    """The driver's exit status."""
    return subprocess.run([*driver, port, name, str(rate)], timeout=30, check=False).returncode


@BRISCA
def test_it_sets_the_rate_before_it_saves(driver: list[str], wexicon_standin: ServedStandIn) -> None:
    assert run(driver, wexicon_standin.port) == 0
    said = wexicon_standin.conversation
    said.expect_order("AT+WHO?", 'AT+NAME="quay 3"', "AT+RATE=57600", "AT+STORE")
    said.expect_answered("AT+STORE", "OK")
    assert (wexicon_standin.stored("name"), wexicon_standin.stored("rate")) == ("quay 3", 57_600)


@BRISCA
def test_it_comes_back_after_a_power_cut(driver: list[str], wexicon_standin: ServedStandIn) -> None:
    assert run(driver, wexicon_standin.port) == 0
    wexicon_standin.power_cut()
    assert run(driver, wexicon_standin.port, name="quay 4") == 0
    wexicon_standin.conversation.expect_back(within=15)
    assert wexicon_standin.stored("name") == "quay 4"


@BRISCA
def test_a_refusal_is_reported_and_nothing_is_saved(driver: list[str], wexicon_standin: ServedStandIn) -> None:
    assert run(driver, wexicon_standin.port, name="x" * 40) == 1
    wexicon_standin.conversation.expect_not_said("AT+STORE")
    assert wexicon_standin.stored("name") == "brisca-w1"


def done_means_done(driver: list[str], standin: ServedStandIn) -> None:
    """Whatever goes wrong, the driver does not say that it is done when it is not."""
    done = run(driver, standin.port) == 0
    standin.conversation.expect_said("AT+WHO?")
    assert not done or (standin.stored("name"), standin.stored("rate")) == ("quay 3", 57_600), (
        standin.conversation.show()
    )


@pytest.mark.wexicon_standin("brisca-w1", faults={"lost": 0.01, "seed": 2})
def test_done_means_done_on_a_line_that_loses_bytes(driver: list[str], wexicon_standin: ServedStandIn) -> None:
    done_means_done(driver, wexicon_standin)


@pytest.mark.wexicon_standin("brisca-w1", faults={"late": 0.5})
def test_done_means_done_with_a_slow_module(driver: list[str], wexicon_standin: ServedStandIn) -> None:
    done_means_done(driver, wexicon_standin)


@BRISCA
@pytest.mark.parametrize(
    ("fault", "status"),
    [
        ('answer "FAULT 7" to "AT+STORE"', 1),
        ('answer "OK" to "AT+NAME="', 1),
        ("loss 100% from module", 2),
        ("loss 0.5%", None),
        ("noise 0.5%", None),
        ("delay 20ms after AT+STORE", 0),
        ("delay 1500ms after AT+STORE", 1),
        ("delay 1500ms after AT+RATE=", None),
    ],
)
def test_what_happens_on_the_line_is_noticed(
    driver: list[str], fault: str, status: int | None, wexicon_standin: ServedStandIn
) -> None:
    """A tap in front of the module disturbs the line; the driver ends with this status, or whatever is true."""
    with wexicon_standin.tapped(fault, seed=3) as port:
        done = run(driver, port)
    assert status in (None, done), wexicon_standin.conversation.show()
    kept = (wexicon_standin.stored("name"), wexicon_standin.stored("rate")) == ("quay 3", 57_600)
    assert kept or done != 0, wexicon_standin.conversation.show()


@pytest.mark.wexicon_standin("brisca-w1", powered=False)
def test_a_dead_module_is_told(driver: list[str], wexicon_standin: ServedStandIn) -> None:
    assert run(driver, wexicon_standin.port) == 2
    wexicon_standin.conversation.expect_said("AT+WHO?", times=10)


@pytest.mark.wexicon_hardware
def test_it_works_with_a_real_module(driver: list[str], wexicon_port: str) -> None:
    assert run(driver, wexicon_port) == 0
