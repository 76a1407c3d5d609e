"""The pytest plug-in: stand-ins and real modules as fixtures, what was said to them where a test fails.

The rule: a test that needs hardware is skipped where no port is named; nothing is written to the user's own folders.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Generator, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import pytest

if TYPE_CHECKING:
    from wexicon.core.results.unit import UnitResult
    from wexicon.testing.standin import ObservedStandIn, ServedStandIn, VirtualStandIn
    from wexicon.work.module.module import Module

MARKS = (
    "wexicon_hardware: needs a real module; skipped without --wexicon-port",
    "wexicon_standin(family, **keys): serves one stand-in, with keys of its table in a rig file",
    "wexicon_rig(file): serves the stand-ins of this rig file",
)
_FOLDERS = ("run", "state", "config")


class RunningRig(dict[str, "ServedStandIn"]):
    """The stand-ins of a rig by their names, each served on a port."""

    @property
    def only(self) -> ServedStandIn:
        """The one that is there. Raises LookupError where there are several."""
        if len(self) != 1:
            raise LookupError(f"the rig has {', '.join(self)}: take one by wexicon_rig[NAME]")
        return next(iter(self.values()))


def pytest_addoption(parser: pytest.Parser) -> None:
    """The options of the plug-in."""
    group = parser.getgroup("wexicon")
    group.addoption(
        "--wexicon-port", metavar="PORT", help="a real module is on this port: tests marked wexicon_hardware run"
    )
    group.addoption(
        "--wexicon-lexicon", metavar="NAME", help="lexicon of the module on --wexicon-port (default: detected)"
    )
    group.addoption("--wexicon-rig", metavar="FILE", help="rig file that is served to each test")
    parser.addini("wexicon_rig", "rig file that is served to each test")


def pytest_configure(config: pytest.Config) -> None:
    """The marks of the plug-in."""
    for mark in MARKS:
        config.addinivalue_line("markers", mark)


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Skips what needs a module that is not there."""
    if not config.getoption("--wexicon-port"):
        for item in items:
            if item.get_closest_marker("wexicon_hardware"):
                item.add_marker(pytest.mark.skip(reason="needs a real module: --wexicon-port PORT"))


def _rig_file(request: pytest.FixtureRequest, folder: Path) -> Path:
    """The rig file of a test: by its mark, by the option, by the configuration. Raises UsageError."""
    node = request.node
    if one := node.get_closest_marker("wexicon_standin"):
        path = folder / "rig.toml"
        path.write_text(f"format = 1\nunit.module = {_inline({'standin': one.args[0], **one.kwargs})}\n")
        return path
    if one := node.get_closest_marker("wexicon_rig"):
        beside = Path(node.path).parent / one.args[0]
        return beside if beside.exists() else Path(request.config.rootpath, one.args[0])
    if given := request.config.getoption("--wexicon-rig"):
        return Path(request.config.invocation_params.dir, given)
    if given := request.config.getini("wexicon_rig"):
        return Path(request.config.rootpath) / str(given)
    raise pytest.UsageError(
        f"{node.name}: which stand-in? Mark it wexicon_standin(FAMILY) or wexicon_rig(FILE), or give --wexicon-rig FILE"
    )


def _inline(value: object) -> str:
    """A value as TOML on one line."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{json.dumps(key)} = {_inline(one)}" for key, one in value.items()) + " }"
    return json.dumps(value)


@pytest.fixture
def _wexicon_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "wexicon"
    folder.mkdir()
    for name in _FOLDERS:
        monkeypatch.setenv(f"WEXICON_{name.upper()}", str(folder / name))
    return folder


@pytest.fixture
def wexicon_rig(request: pytest.FixtureRequest, _wexicon_folders: Path) -> Iterator[RunningRig]:
    """The stand-ins of this test's rig, served on ports."""
    from wexicon import api
    from wexicon.testing.standin import ServedStandIn

    with api.rig(_rig_file(request, _wexicon_folders)) as server:
        made = RunningRig({name: ServedStandIn(server, name) for name in server.ports})
        request.node.stash[_RIG] = made
        request.node.stash[_OBSERVED] = made
        yield made


@pytest.fixture
def wexicon_standin(wexicon_rig: RunningRig) -> ServedStandIn:
    """The stand-in of a rig that has one."""
    return wexicon_rig.only


@pytest.fixture
def wexicon_virtual(request: pytest.FixtureRequest, _wexicon_folders: Path) -> VirtualStandIn:
    """A stand-in in virtual time, for firmware in Python that is given its port: `wexicon_virtual.port` is used as a serial
    port is, and no real time passes."""
    from wexicon import api
    from wexicon.testing.standin import VirtualStandIn

    standins = api.virtual_rig(_rig_file(request, _wexicon_folders))
    made = VirtualStandIn(standins, next(iter(standins.units)))
    request.node.stash[_OBSERVED] = {made.name: made}
    return made


@pytest.fixture
def wexicon_record(request: pytest.FixtureRequest) -> Callable[[UnitResult], None]:
    """A function that puts a result's verdict, evidence and unit into the JUnit properties."""

    def record(result: UnitResult) -> None:
        for name in ("verdict", "evidence", "unit", "trace"):
            request.node.user_properties.append((f"wexicon-{name}", str(getattr(result, name))))

    return record


@pytest.fixture
def wexicon_port(request: pytest.FixtureRequest) -> str:
    """The port at which the firmware under test finds its module: that of --wexicon-port, or the stand-in's."""
    if given := request.config.getoption("--wexicon-port"):
        return str(given)
    port: str = request.getfixturevalue("wexicon_rig").only.port
    return port


@pytest.fixture
def wexicon_module(request: pytest.FixtureRequest, wexicon_port: str, _wexicon_folders: Path) -> Iterator[Module]:
    """A session with the module on `wexicon_port`, by its lexicon; what is read from it goes into the JUnit properties."""
    from wexicon import api
    from wexicon.rigs.serving import RigOperator

    rig = request.node.stash.get(_RIG, None)
    if rig:
        served = rig.only
        setup = api.Setup(operator=lambda port: RigOperator(served.server, served.name))
        lexicon = served.family
    else:
        setup, lexicon = api.Setup(), request.config.getoption("--wexicon-lexicon")
    with api.open_module(wexicon_port, lexicon, setup) as module:
        yield module
        request.node.user_properties.append(("wexicon-lexicon", module.lexicon.about.family))
        if module.identity:
            request.node.user_properties.append(
                ("wexicon-identity", ", ".join(f"{name} {value}" for name, value in module.identity.items()))
            )


_RIG = pytest.StashKey[RunningRig]()
_OBSERVED: pytest.StashKey[Mapping[str, ObservedStandIn]] = pytest.StashKey()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(
    item: pytest.Item, call: pytest.CallInfo[None]
) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """Shows what was said where a test failed."""
    report = yield
    rig = item.stash.get(_OBSERVED, None)
    shown = call.excinfo is not None and type(call.excinfo.value).__name__ == "Unexpected"
    if rig and report.when == "call" and report.failed and not shown:
        for name, one in rig.items():
            report.sections.append((f"conversation with {name}, a {one.family}", one.conversation.show()))
    return report
