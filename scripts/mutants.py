"""Small faults put into the code on purpose, to see whether the tests notice: `make mutants`.

A seeded sample of faults (another comparison, a sum for a difference, a constant off by one, a condition turned round, a
statement left out …) over the packages that decide results. Each is put into a copy of the code, and the tests that run its
line are run against the copy until one fails. Compiled kernels are left alone: they are held to SciPy and to pinned bytes.

    scripts/mutants.py --count 200 --seed 7 --minutes 40        a fresh sample
    scripts/mutants.py --only core/varlen/labels/keep_rule.py   every fault of one file
"""

from __future__ import annotations

import argparse
import ast
import copy
import json
import os
import random
import re
import shutil
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
CORE, SERVER = "core/varlen", "server/varlen_server"
TESTS = "tests/core"
#: What is sampled, and the tests that speak for it, the quickest first.
AREAS: dict[str, tuple[str, ...]] = {
    f"{CORE}/model": ("model", "labels", "render", "test_golden.py"),
    f"{CORE}/labels": ("labels", "forecasts", "test_golden.py"),
    f"{CORE}/pipeline": ("pipeline", "render", "labels", "test_golden.py"),
    f"{CORE}/steps": ("steps", "pipeline", "test_golden.py"),
    f"{CORE}/render": ("render", "labels", "steps", "test_golden.py"),
    f"{CORE}/datasets": ("datasets", "test_golden.py"),
    f"{CORE}/editions": ("editions", "test_golden.py"),
    f"{CORE}/forecasts": ("forecasts",),
    f"{CORE}/draws.py": ("test_draws.py", "test_golden.py"),
    f"{CORE}/atomic_files.py": ("test_atomic_files.py", "editions"),
    SERVER: ("tests/server",),
}
#: What decides nothing: addresses, settings, words of the schema, how things start.
LEFT_ALONE = ("migrations", "serializers.py", "settings.py", "wsgi.py", "urls.py", "precompile.py", "worker_preload.py", "management", "models.py")
#: Seconds that the tests of one fault may take; a fault that makes them hang is noticed.
PATIENCE = 180
#: Tests are run for a fault until they have taken so many seconds (as they took without it, watched).
WORTH = 60.0
#: Lines that the longest statement goes over.
LONGEST = 15


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault: its file, its line, and what the line says instead."""

    file: str
    line: int
    what: str
    before: str
    after: str
    source: str


_COMPARE: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
_ARITHMETIC: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.FloorDiv: ast.Div, ast.Mod: ast.Mult,
    ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd, ast.LShift: ast.RShift, ast.RShift: ast.LShift,
}  # fmt: skip
_CALLS = {"min": "max", "max": "min", "floor": "ceil", "ceil": "floor", "any": "all", "all": "any", "minimum": "maximum", "maximum": "minimum"}


def _changed(node: ast.AST) -> Iterator[tuple[str, ast.AST]]:
    """Every small change of one node, each with a name."""
    match node:
        case ast.Compare(ops=[op, *_]) if type(op) in _COMPARE:
            yield "comparison", _with(node, ops=[_COMPARE[type(op)](), *node.ops[1:]])
        case ast.BinOp(op=operator) if type(operator) in _ARITHMETIC and not _is_text(node):
            yield "arithmetic", _with(node, op=_ARITHMETIC[type(operator)]())
        case ast.BoolOp(op=ast.And()):
            yield "and for or", _with(node, op=ast.Or())
        case ast.BoolOp(op=ast.Or()):
            yield "or for and", _with(node, op=ast.And())
        case ast.UnaryOp(op=ast.Not()):
            yield "not", node.operand
        case ast.UnaryOp(op=ast.USub()):
            yield "sign", node.operand
        case ast.Constant(value=bool() as value):
            yield "truth", _with(node, value=not value)
        case ast.Constant(value=int() | float() as value):
            yield "constant", _with(node, value=value + 1)
        case ast.Call(func=ast.Name(id=name)) if name in _CALLS:
            yield "function", _with(node, func=ast.Name(_CALLS[name], ast.Load()))
        case ast.Call(func=ast.Attribute(attr=name)) if name in _CALLS:
            yield "function", _with(node, func=_with(node.func, attr=_CALLS[name]))
        case ast.If() | ast.IfExp():
            yield "condition", _with(node, test=ast.UnaryOp(ast.Not(), node.test))
        case ast.Expr(value=ast.Call()):
            yield "left out", ast.Pass()
        case ast.AugAssign(op=operator) if type(operator) in _ARITHMETIC:
            yield "arithmetic", _with(node, op=_ARITHMETIC[type(operator)]())
        case ast.Break():
            yield "break", ast.Continue()
        case ast.Continue():
            yield "continue", ast.Pass()
        case ast.Return(value=value) if value is not None and not isinstance(value, ast.Constant):
            yield "returns nothing", _with(node, value=ast.Constant(None))


def _with(node: ast.AST, **fields: object) -> ast.AST:
    made = copy.copy(node)
    for name, value in fields.items():
        setattr(made, name, value)
    return made


def _is_text(node: ast.BinOp) -> bool:
    sides = (node.left, node.right)
    return any(isinstance(side, ast.JoinedStr) or (isinstance(side, ast.Constant) and isinstance(side.value, str)) for side in sides)


def _decides(tree: ast.Module) -> Iterator[tuple[ast.AST, str, int | None, ast.AST]]:
    """Nodes that run and decide something, with their parent and their place in it: no types, docstrings, defaults of words, messages."""
    passed = (ast.Raise, ast.Import, ast.ImportFrom, ast.JoinedStr, ast.Assert)
    waiting: list[ast.AST] = [tree]
    while waiting:
        parent = waiting.pop()
        for field, value in ast.iter_fields(parent):
            if field in ("annotation", "returns", "decorator_list", "type_params"):
                continue
            for place, child in enumerate(value) if isinstance(value, list) else [(None, value)]:
                if not isinstance(child, ast.AST) or isinstance(child, passed):
                    continue
                if isinstance(child, ast.If) and "TYPE_CHECKING" in ast.unparse(child.test):
                    continue
                # `zip(…, strict=True)` only guards against slips of our own; turned off it changes no result.
                if isinstance(child, ast.keyword) and child.arg == "strict":
                    continue
                yield parent, field, place, child
                waiting.append(child)


def faults_of(path: Path) -> Iterator[Fault]:
    """Every fault of a file."""
    text = path.read_text()
    tree = ast.parse(text)
    for parent, field, place, node in list(_decides(tree)):
        if not hasattr(node, "lineno"):
            continue
        for what, changed in _changed(node):
            ast.fix_missing_locations(ast.copy_location(changed, node))
            _put(parent, field, place, changed)
            source = ast.unparse(tree)
            _put(parent, field, place, node)
            yield Fault(path.relative_to(PROJECT).as_posix(), node.lineno, what, _short(node), _short(changed), source)


def _put(parent: ast.AST, field: str, place: int | None, node: ast.AST) -> None:
    if place is None:
        setattr(parent, field, node)
    else:
        getattr(parent, field)[place] = node


def _short(node: ast.AST) -> str:
    return " ".join(ast.unparse(node).split())[:90]


def files_of(area: str) -> list[Path]:
    """The files of an area that are sampled."""
    path = PROJECT / area
    found = [path] if path.suffix == ".py" else sorted(path.rglob("*.py"))
    return [each for each in found if not set(LEFT_ALONE) & set(each.parts)]


class Bench:
    """A copy of the code with one fault in it at a time; the copy stays, so that compiled kernels stay too."""

    def __init__(self, folder: Path, number: int, seen_before: bool) -> None:
        self.folder, self.number = folder / str(number), number
        # The compiled kernels of an earlier run serve this one: they are known by path and time.
        for part in (CORE, SERVER):
            shutil.rmtree(self.folder / part, ignore_errors=True)
            shutil.copytree(PROJECT / part, self.folder / part, ignore=shutil.ignore_patterns("__pycache__"))
        shutil.copy(PROJECT / "server" / "manage.py", self.folder / "server")
        self.seen = self.folder / "seen.json"
        if not seen_before:
            self.seen.unlink(missing_ok=True)
        self.environment = {
            "LINES_BY_TEST": str(self.seen), "LINES_OF": f"{self.folder / CORE}:{self.folder / SERVER}",
            **os.environ, "PYTHONPATH": f"{self.folder / 'core'}:{self.folder / 'server'}", "VARLEN_TEST_STATE": f"mutants-{number}",
            "NUMBA_CACHE_DIR": str(self.folder / "compiled"), "PYTHONDONTWRITEBYTECODE": "1",
        }  # fmt: skip

    def passes(self, tests: list[str], watch: bool = False) -> bool:
        """Whether all of the tests pass on the copy as it is. watch: see also which lines each runs."""
        watching = ["-p", "scripts.lines_by_test"] if watch else []
        command = [sys.executable, "-m", "pytest", *watching, "-x", "-q", "--no-header", "-p", "no:cacheprovider", "-m", "not slow", *tests]
        patience = None if watch else PATIENCE
        try:
            done = subprocess.run(command, cwd=PROJECT, env=self.environment, capture_output=True, timeout=patience, check=False)
        except subprocess.TimeoutExpired:
            return False
        return done.returncode == 0

    def notices(self, fault: Fault, tests: list[str]) -> bool:
        """Whether a test fails with the fault in the copy."""
        path = self.folder / fault.file
        kept = path.read_text()
        path.write_text(fault.source)
        try:
            return not self.passes(tests)
        finally:
            path.write_text(kept)


class Coverage:
    """Which tests run which lines, and how long each takes; from one run of all tests without a fault."""

    def __init__(self, benches: list[Bench]) -> None:
        self.lines: dict[str, dict[int, set[str]]] = {}
        self.seconds: dict[str, float] = {}
        for bench in benches:
            if not bench.seen.exists():
                continue
            seen = json.loads(bench.seen.read_text())
            self.seconds |= seen["seconds"]
            for path, lines in seen["lines"].items():
                known = self.lines.setdefault(Path(path).relative_to(bench.folder).as_posix(), {})
                for line, tests in lines.items():
                    known.setdefault(int(line), set()).update(tests)

    def tests_for(self, fault: Fault) -> list[str]:
        """The tests that run a fault's line, file by file, the quickest first, for as long as a fault is worth."""
        lines = self.lines.get(fault.file, {})
        # A statement may go over several lines, of which the first is the one seen.
        near = [line for line in range(fault.line, fault.line - LONGEST, -1) if line in lines]
        chosen = lines[near[0]] if near else set()
        by_file: dict[str, list[str]] = {}
        for test in self.seconds:
            path = test.partition("::")[0]
            if test in chosen or path in chosen:
                by_file.setdefault(path, []).append(test)
        found: list[str] = []
        spent = 0.0
        for tests in sorted(by_file.values(), key=self._cost):
            spent += self._cost(tests)
            if found and spent > WORTH:
                break
            found += tests
        return found or self._of_module(fault)

    def _cost(self, tests: list[str]) -> float:
        return sum(self.seconds[test] for test in tests)

    def _of_module(self, fault: Fault) -> list[str]:
        """For what runs when the module is loaded: tests that name it, then the area's."""
        module = ".".join(Path(fault.file).with_suffix("").parts[1:]).removesuffix(".__init__")
        side = "tests/server" if fault.file.startswith(SERVER) else TESTS
        files = sorted({test.partition("::")[0] for test in self.seconds})
        named = [path for path in files if path.startswith(side) and re.search(rf"{re.escape(module)}\b", (PROJECT / path).read_text())]
        return [*named, *area_tests(fault)]


def area_of(fault: Fault) -> str:
    """The area a fault lies in."""
    return next(area for area in AREAS if fault.file.startswith(area))


def area_tests(fault: Fault) -> list[str]:
    """All tests that speak for a fault's area."""
    return [name if name.startswith("tests/") else f"{TESTS}/{name}" for name in AREAS[area_of(fault)]]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--minutes", type=float, default=60)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--only", default="", help="faults of files whose path begins so")
    parser.add_argument("--tests", default="", help="files below tests/core that speak for all faults, with commas, instead of those of each area")
    parser.add_argument("--seen", action="store_true", help="which tests run which lines was seen by the run before, of the same code and all areas")
    parser.add_argument("--list", action="store_true", help="list the faults of the sample and stop")
    parser.add_argument("--again", default="", help="a file of survivors to be tried again")
    parser.add_argument("--out", default="", help="write survivors there, JSON")
    options = parser.parse_args()
    if options.tests:
        AREAS.update(dict.fromkeys(AREAS, tuple(options.tests.split(","))))
    files = [path for area in AREAS for path in files_of(area) if path.relative_to(PROJECT).as_posix().startswith(options.only)]
    every = [fault for path in files for fault in faults_of(path)]
    if options.again:
        wanted = {(each["file"], each["line"], each["what"], each["before"]) for each in json.loads(Path(options.again).read_text())}
        sample = [fault for fault in every if (fault.file, fault.line, fault.what, fault.before) in wanted]
    else:
        sample = random.Random(options.seed).sample(every, min(options.count, len(every)))
    print(f"{len(every)} faults in all, {len(sample)} of them tried", flush=True)
    if options.list:
        for fault in sample:
            print(f"{fault.file}:{fault.line}  {fault.what}: {fault.before}  →  {fault.after}")
        return
    found = run(sample, options.jobs, options.minutes, options.seen)
    report(found, options.out)


def run(sample: list[Fault], jobs: int, minutes: float, seen_before: bool) -> dict[Fault, bool]:
    """For each fault whether it was noticed; what is not tried in time is left out."""
    found: dict[Fault, bool] = {}
    lock = threading.Lock()
    benches = PROJECT / ".varlen" / "mutants"
    with ThreadPoolExecutor(jobs) as pool:
        free = [Bench(benches, number, seen_before) for number in range(jobs)]
        every = sorted({name for fault in sample for name in area_tests(fault)})
        halves = [every[number::jobs] for number in range(jobs)]
        if not seen_before and not all(pool.map(lambda pair: not pair[1] or pair[0].passes(pair[1], watch=True), zip(free, halves, strict=True))):
            sys.exit("tests fail without any fault, so they say nothing")
        coverage = Coverage(free)
        print(f"without a fault all {len(coverage.seconds)} tests pass", flush=True)
        end = time.monotonic() + 60 * minutes

        def attempt(fault: Fault) -> None:
            if time.monotonic() > end:
                return
            with lock:
                bench = free.pop()
            noticed = bench.notices(fault, coverage.tests_for(fault))
            with lock:
                free.append(bench)
                found[fault] = noticed
                if not noticed:
                    print(f"survived  {fault.file}:{fault.line}  {fault.what}: {fault.before}  →  {fault.after}", flush=True)
                if len(found) % 20 == 0:
                    print(f"{len(found)} tried, {sum(found.values())} noticed", flush=True)

        list(pool.map(attempt, sample))
    return found


def report(found: dict[Fault, bool], out: str) -> None:
    """The table by area, and the survivors."""
    tried, noticed = Counter[str](), Counter[str]()
    for fault, seen in found.items():
        area = area_of(fault)
        tried[area] += 1
        noticed[area] += seen
    print("\n| area | tried | noticed |\n|---|---|---|")
    for area in AREAS:
        if tried[area]:
            print(f"| `{area}` | {tried[area]} | {noticed[area]} |")
    print(f"| **all** | {tried.total()} | {noticed.total()} ({noticed.total() / max(tried.total(), 1):.0%}) |")
    if out:
        survivors = [{name: value for name, value in asdict(fault).items() if name != "source"} for fault, seen in found.items() if not seen]
        Path(out).write_text(json.dumps(survivors, indent=1) + "\n")


if __name__ == "__main__":
    main()
