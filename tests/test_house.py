"""The rooms of the house: which may import from which, held against the code's own imports."""

from __future__ import annotations

import ast
import importlib
import unittest
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).resolve().parent.parent / "src" / "kiboko"

# A room imports from rooms on lower floors only, and from itself.
FLOORS = {
    "core.errors": 0, "core.hints": 0, "core.memory": 0, "core.spreading": 0, "core.wording": 0,
    "core.header": 1,
    "core.network": 2, "core.records": 2,
    "core.filters": 3, "core.routing": 3,
    "core.walk": 4,
    "core.tables": 5,
    "core.queries": 6,
    "core.reachability": 7, "core.evidence": 7,
    "core.audit": 8,
    "core.changes": 9,
    "files.documents": 10,
    "files.elements": 11, "files.hosts": 11,
    "files.network": 12, "files.messages": 12,
    "files.changes": 13, "files.expectations": 13, "files.logs": 13, "files.store": 13,
    "files.collection": 14,
    "batch": 15,
    "wire": 15,
    "replica": 16,
    "views": 16,
    "api": 17,
    "demo": 17,
    "commands": 18,
}  # fmt: skip


def room_of(module: str) -> str | None:
    """The room that a module lies in: the longest name of the table that it begins with."""
    fitting = [room for room in FLOORS if module == f"kiboko.{room}" or module.startswith(f"kiboko.{room}.")]
    return max(fitting, key=len) if fitting else None


def imports_of(path: Path) -> Iterator[str]:
    """Every module of the project that a file imports, wherever in it."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("kiboko"):
            yield from (f"{node.module}.{alias.name}" for alias in node.names)
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names if alias.name.startswith("kiboko"))


class House(unittest.TestCase):
    def test_every_module_lies_in_a_room(self) -> None:
        for path in SOURCE.glob("*/**/*.py"):
            module = ".".join(["kiboko", *path.relative_to(SOURCE).with_suffix("").parts])
            if path.name != "__init__.py":
                self.assertIsNotNone(room_of(module), path)

    def test_no_arrow_leads_up_or_sideways(self) -> None:
        wrong = []
        for path in SOURCE.glob("*/**/*.py"):
            own = room_of(".".join(["kiboko", *path.relative_to(SOURCE).with_suffix("").parts]))
            for imported in imports_of(path):
                other = room_of(imported)
                if own is None or other is None or own == other:
                    continue
                if FLOORS[other] >= FLOORS[own]:
                    wrong.append(f"{path.relative_to(SOURCE)} imports {imported}")
        self.assertEqual([], wrong)

    def test_the_core_imports_nothing_but_the_standard_library_and_numpy(self) -> None:
        for path in SOURCE.glob("core/**/*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                names = [node.module or ""] if isinstance(node, ast.ImportFrom) else []
                names = [alias.name for alias in node.names] if isinstance(node, ast.Import) else names
                for name in names:
                    self.assertNotIn(name.partition(".")[0], {"pydantic", "yaml", "rich", "pyarrow", "pandas"}, path)

    def test_no_circle_among_modules(self) -> None:
        modules = {".".join(["kiboko", *p.relative_to(SOURCE).with_suffix("").parts]): p for p in SOURCE.rglob("*.py")}
        graph = {
            name: {each if each in modules else each.rpartition(".")[0] for each in imports_of(path)}
            & set(modules) - {name}
            for name, path in modules.items()
        }
        done: set[str] = set()

        def follow(name: str, trail: tuple[str, ...]) -> None:
            if name in trail:
                self.fail(" -> ".join((*trail, name)))
            if name not in done:
                for each in sorted(graph[name]):
                    follow(each, (*trail, name))
                done.add(name)

        for name in graph:
            follow(name, ())

    def test_every_name_that_a_bench_imports_is_there(self) -> None:
        for path in (SOURCE.parent.parent / "bench").glob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("kiboko"):
                    module = importlib.import_module(node.module or "")
                    for alias in node.names:
                        self.assertTrue(hasattr(module, alias.name), f"{path.name}: {node.module}.{alias.name}")


if __name__ == "__main__":
    unittest.main()
