"""Names in backticks, in docstrings, comments and pages, that the code does not have: `python scripts/names.py`; `make test` runs it.

Checked are file names (`planner.py`) and dotted names (`render.planner`, `Plan.stages`): every part must be a name in the code, and what
is said to be in a module or class must stand there. Plain words are left alone, as they may be words of files or of the world.
"""

from __future__ import annotations

import ast
import io
import itertools
import re
import sys
import tokenize
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
QUOTED = re.compile(r"`([^`\n]+)`")
FILE = re.compile(r"[\w/-]+\.(?:py|ts|tsx|css)")
DOTTED = re.compile(r"[A-Za-z_]\w*(?:\.[A-Za-z_]\w*)+")
#: Not ours: modules and objects of packages, files that people write, names in examples.
FOREIGN = {
    "np",
    "numpy",
    "django",
    "multiprocessing",
    "gunicorn",
    "threading",
    "os",
    "sys",
    "v",
    "json",
    "math",
    "pathlib",
    "request",
    "page",
    "scipy",
    "ndimage",
}
#: Endings of files that only look like dotted names.
ENDINGS = {
    "json",
    "jsonl",
    "csv",
    "npz",
    "tar",
    "zip",
    "yaml",
    "yml",
    "txt",
    "xml",
    "md",
    "jpg",
    "png",
    "html",
    "lock",
    "toml",
    "parquet",
    "db",
    "sock",
    "conf",
    "names",
    "data",
}


def python_files() -> list[Path]:
    return [
        path
        for top in ("core", "server", "scripts", "benchmarks", "tests")
        for path in (PROJECT / top).rglob("*.py")
        if "migrations" not in path.parts
    ]


class Code:
    """What names there are: of modules and packages, of classes with their members, and all others."""

    def __init__(self, files: list[Path]) -> None:
        self.names: set[str] = set()
        self.inside: dict[str, set[str]] = {}  # of modules and classes
        self.files = {path.name for path in files} | {path.name for path in (PROJECT / "web").rglob("*.*s*") if "node_modules" not in path.parts}
        self.files |= {path.name for path in (PROJECT / "core").rglob("*.json")}
        for path in files:
            tree = ast.parse(path.read_text())
            defined = {name for node in ast.walk(tree) for name in _defined(node)}
            self.names |= defined | {each.id for each in ast.walk(tree) if isinstance(each, ast.Name)}
            self.names |= {each.attr for each in ast.walk(tree) if isinstance(each, ast.Attribute)}
            self.inside.setdefault(path.stem, set()).update(defined)
            self.inside.setdefault(path.parent.name, set()).update({path.stem, *defined})
            if path.name == "__init__.py":
                self.inside[path.parent.name] |= {each.stem for each in path.parent.iterdir()}
            for node in ast.walk(tree):
                if isinstance(node, ast.ClassDef):
                    members = {name for each in ast.walk(node) for name in _defined(each)}
                    bases = {base.id for base in node.bases if isinstance(base, ast.Name)}
                    self.inside.setdefault(node.name, set()).update(members | {f"<{base}>" for base in bases})
        for path in (PROJECT / "web" / "src").rglob("*.ts*"):
            words = set(re.findall(r"\w+", path.read_text()))
            self.names |= words
            self.inside.setdefault(path.stem, set()).update(words)

    def knows(self, dotted: str) -> bool:
        parts = dotted.split(".")
        if parts[0] in FOREIGN or parts[-1] in ENDINGS:
            return True
        for owner, name in itertools.pairwise(parts):
            if owner not in self.inside and owner not in self.names:
                return False
            if not self._holds(owner, name):
                return False
        return True

    def _holds(self, owner: str, name: str) -> bool:
        if owner not in self.inside:
            return name in self.names
        members = self.inside[owner]
        if name in members:
            return True
        bases = [each[1:-1] for each in members if each.startswith("<")]
        # A class of a package may have what is not ours to see.
        return any(base not in self.inside or self._holds(base, name) for base in bases)


def _defined(node: ast.AST) -> list[str]:
    match node:
        case ast.FunctionDef(name=name) | ast.AsyncFunctionDef(name=name) | ast.ClassDef(name=name):
            return [name]
        case ast.Assign(targets=targets):
            return [each.id if isinstance(each, ast.Name) else each.attr for each in targets if isinstance(each, (ast.Name, ast.Attribute))]
        case ast.AnnAssign(target=ast.Name(id=name)) | ast.AnnAssign(target=ast.Attribute(attr=name)):
            return [name]
        case ast.ImportFrom(names=names) | ast.Import(names=names):
            return [(each.asname or each.name).split(".")[0] for each in names]
        case ast.arg(arg=name):
            return [name]
    return []


def said(path: Path) -> list[tuple[int, str]]:
    """Every quoted name with its line: of pages all, of code those in comments and docstrings."""
    text = path.read_text()
    if path.suffix == ".md":
        text = re.sub(r"^```.*?^```", lambda block: "\n" * block[0].count("\n"), text, flags=re.M | re.S)
        return [(number, name) for number, line in enumerate(text.splitlines(), 1) for name in QUOTED.findall(line)]
    found = []
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type == tokenize.COMMENT or (token.type == tokenize.STRING and token.string.startswith(('"""', 'r"""'))):
            for place, line in enumerate(token.string.splitlines()):
                found += [(token.start[0] + place, name) for name in QUOTED.findall(line)]
    return found


def missing() -> list[str]:
    """Each name that there is not, with its place."""
    files = python_files()
    code = Code(files)
    pages = [*(path for path in (PROJECT / "docs").rglob("*.md") if not any(part.startswith("_") for part in path.parts)),
             PROJECT / "README.md", PROJECT / "CONTRIBUTING.md"]  # fmt: skip
    found = []
    for path in [*files, *pages]:
        for line, name in said(path):
            name = name.removesuffix("()")
            if FILE.fullmatch(name):
                good = name.rsplit("/", 1)[-1] in code.files
            elif DOTTED.fullmatch(name):
                good = code.knows(name)
            else:
                continue
            if not good:
                found.append(f"{path.relative_to(PROJECT)}:{line}: `{name}` is nowhere in the code")
    return found


if __name__ == "__main__":
    problems = missing()
    print("\n".join(problems), file=sys.stderr)
    sys.exit(bool(problems))
