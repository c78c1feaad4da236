"""A pytest plugin: which lines each test runs, for `mutants.py` to pick the tests that can notice a fault.

What runs while a test's fixtures are set up counts for all tests of its file, since they may share a fixture. Written to the
file named by LINES_BY_TEST as {"lines": {source file: {line: [test or test file]}}, "seconds": {test: its duration}};
LINES_OF names the folders that are watched.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path

import coverage
import pytest

_seconds: dict[str, float] = {}
_watch = coverage.Coverage(data_file=None, include=[f"{folder}/*" for folder in os.environ["LINES_OF"].split(":")])


def pytest_sessionstart() -> None:
    _watch.start()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_setup(item: pytest.Item) -> Iterator[None]:
    _watch.switch_context(item.nodeid.partition("::")[0])
    yield


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item: pytest.Item) -> Iterator[None]:
    _watch.switch_context(item.nodeid)
    yield


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    _seconds[report.nodeid] = _seconds.get(report.nodeid, 0.0) + report.duration


def pytest_sessionfinish() -> None:
    _watch.stop()
    data = _watch.get_data()
    found = {
        file: {line: [test for test in tests if test] for line, tests in data.contexts_by_lineno(file).items()} for file in data.measured_files()
    }
    Path(os.environ["LINES_BY_TEST"]).write_text(json.dumps({"lines": found, "seconds": _seconds}))
