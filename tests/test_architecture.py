"""The structure of the code: no import cycles, no large classes and files, and stages in their order."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import kanal
from conftest import Files
from kanal.runner import run_log_of
from kanal.runner.stages import ORDER

ROOT = Path(kanal.__file__).parent


def modules() -> dict[str, ast.Module]:
    found = {}
    for path in ROOT.rglob("*.py"):
        name = ".".join(path.relative_to(ROOT.parent).with_suffix("").parts)
        found[name.removesuffix(".__init__")] = ast.parse(path.read_text(encoding="utf-8"))
    return found


def imported(tree: ast.Module, known: dict[str, ast.Module]) -> set[str]:
    """The modules that a module imports anywhere, also for type checkers alone or within functions."""
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            found |= {name.name for name in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {f"{node.module}.{name.name}" for name in node.names} | {node.module}
    return found & set(known)


def cycles(imports: dict[str, set[str]]) -> Iterator[tuple[str, ...]]:
    """A circle of modules for each module that is reached from itself."""

    def way(start: str) -> tuple[str, ...] | None:
        seen, left = set[str](), [(start,)]
        while left:
            path = left.pop()
            for name in imports[path[-1]]:
                if name == start:
                    return path
                if name not in seen:
                    seen.add(name)
                    left.append((*path, name))
        return None

    return (found for name in imports if (found := way(name)) is not None)


def test_no_modules_import_each_other() -> None:
    known = modules()
    imports = {name: imported(tree, known) - {name} for name, tree in known.items()}
    # A package offers the names of its modules, which do not import it.
    packages = {".".join(path.parent.relative_to(ROOT.parent).parts) for path in ROOT.rglob("__init__.py")}
    imports = {name: found if name in packages else found - ancestors(name) for name, found in imports.items()}
    assert next(cycles({"a": {"b"}, "b": {"a"}})) == ("a", "b")
    assert list(cycles(imports)) == []


def ancestors(name: str) -> set[str]:
    parts = name.split(".")
    return {".".join(parts[:count]) for count in range(1, len(parts))}


def test_no_class_and_no_file_is_large() -> None:
    large = []
    for name, tree in modules().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                lines = (node.end_lineno or 0) - node.lineno + 1
                methods = sum(isinstance(part, ast.FunctionDef | ast.AsyncFunctionDef) for part in node.body)
                if lines > 300 or methods > 35:
                    large.append(f"{name}.{node.name}: {lines} lines, {methods} methods")
    large += [str(path) for path in ROOT.rglob("*.py") if len(path.read_text(encoding="utf-8").splitlines()) > 500]
    assert large == []


def test_a_batch_meets_the_stages_in_their_order(files: Files) -> None:
    files.database("old.db", "CREATE TABLE s (k integer PRIMARY KEY, u integer)", s=[(k, k - 1) for k in range(9)])
    files.database("new.db", "CREATE TABLE t (k integer PRIMARY KEY, u integer)")
    body = (
        '[pipeline.t]\nsource = "old:s"\ntarget = "new:t"\nwrite = "merge"\nkey = "k"\nsince = "k"\nwhere = "k > 0"\n'
    )
    made = kanal.Job.read(files.job(body))
    run = made.run()
    times = run_log_of(made).steps.stage_times(run.run)["t"]
    names = [stage.name for stage in ORDER]
    assert [name for name in names if name in times] == list(times)
    assert set(names) - set(times) == {"hold back"}  # no row looks up others of its load
    assert all(seconds >= 0 for seconds in times.values())
