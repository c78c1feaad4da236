"""The core's packages and who imports whom: `scripts/imports.py` prints the graph, `--check` fails where an arrow points upwards.

The order is that of the import contract in pyproject.toml, which `make test` enforces; imports inside functions and for
type checking count too.
"""

from __future__ import annotations

import ast
import sys
import tomllib
from collections import Counter
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
CORE = PROJECT / "core"


def layers() -> list[str]:
    """The packages from the outside in."""
    settings = tomllib.loads((PROJECT / "pyproject.toml").read_text())
    contract = next(each for each in settings["tool"]["importlinter"]["contracts"] if each["type"] == "layers")
    return [name.strip() for layer in contract["layers"] for name in layer.split("|")]


def package_of(module: str) -> str:
    """The package, or module right in `varlen`, that a dotted name belongs to."""
    parts = module.split(".")
    return parts[1] if len(parts) > 1 else "varlen"


def imported(path: Path) -> list[str]:
    """The modules of ours that a file imports."""
    found = []
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found += [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            found += [f"{node.module}.{alias.name}" for alias in node.names] if node.module == "varlen" else [node.module]
    return [name for name in found if name == "varlen" or name.startswith("varlen.")]


def arrows() -> Counter[tuple[str, str]]:
    """How many imports lead from one package to another."""
    found: Counter[tuple[str, str]] = Counter()
    for path in sorted((CORE / "varlen").rglob("*.py")):
        own = package_of(".".join(path.relative_to(CORE).with_suffix("").parts))
        for name in imported(path):
            if (target := package_of(name)) != own and own != "__init__":
                found[own, target] += 1
    return found


def circles(top: Path = CORE / "varlen", root: Path = CORE) -> list[list[str]]:
    """Modules that import one another, each circle sorted; imports for type checking alone don't count: nothing is loaded for them."""
    modules = {".".join(path.relative_to(root).with_suffix("").parts).removesuffix(".__init__"): path for path in top.rglob("*.py")}
    reach = {name: {each for each in _loaded(path) if each in modules and each != name} for name, path in modules.items()}
    found: set[tuple[str, ...]] = set()
    for name in modules:
        seen, waiting = set[str](), [name]
        while waiting:
            for each in reach[waiting.pop()] - seen:
                seen.add(each)
                waiting.append(each)
        if name in seen:
            found.add(tuple(sorted({each for each in seen if name in _all_reached(reach, each)} | {name})))
    return [list(each) for each in sorted(found)]


def _all_reached(reach: dict[str, set[str]], start: str) -> set[str]:
    seen, waiting = set[str](), [start]
    while waiting:
        for each in reach[waiting.pop()] - seen:
            seen.add(each)
            waiting.append(each)
    return seen


def _loaded(path: Path) -> set[str]:
    tree = ast.parse(path.read_text())
    typed = {id(each) for node in ast.walk(tree) if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING" for each in ast.walk(node)}
    found = set()
    for node in ast.walk(tree):
        if id(node) in typed:
            continue
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module, *(f"{node.module}.{alias.name}" for alias in node.names)}
    return found


def main() -> None:
    order, found = layers(), arrows()
    upwards = [(one, other) for one, other in found if order.index(other) <= order.index(one)]
    for package in order:
        below = [f"{other} ({found[package, other]})" for other in order if found[package, other]]
        print(f"{package:<13} → {', '.join(below) or '–'}")
    for one, other in upwards:
        print(f"upwards: {one} → {other}", file=sys.stderr)
    circular = [each for top in (CORE / "varlen", PROJECT / "server" / "varlen_server") for each in circles(top, top.parent)]
    for circle in circular:
        print(f"circle: {' ↔ '.join(circle)}", file=sys.stderr)
    sys.exit(bool(upwards or circular) and "--check" in sys.argv)


if __name__ == "__main__":
    main()
