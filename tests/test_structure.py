"""The shape of the code: imports run one way, and Qt stays in the window."""

import ast
import unittest
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import tinsnip

ROOT = Path(tinsnip.__file__).parent
BASE = {"words", "errors", "kernels", "progress", "threads", "memory"}
MAY_IMPORT = {
    "words": set(),
    "errors": set(),
    "kernels": set(),
    "progress": {"errors"},
    "threads": set(),
    "memory": set(),
    "space": BASE,
    "mesh": BASE | {"space"},
    "formats": BASE | {"space", "mesh"},
    "survey": BASE | {"space", "mesh"},
    "regions": BASE | {"space", "mesh", "survey"},
    "datums": BASE | {"space", "mesh", "formats", "survey", "regions"},
    "treat": BASE | {"space", "mesh", "formats", "survey", "regions", "datums"},
    "report": BASE | {"space", "mesh", "survey"},
    "job": BASE | {"space", "mesh", "formats", "survey", "regions", "datums", "treat", "report"},
    "demo": BASE | {"space", "mesh", "formats", "survey", "treat", "job", "report"},
    "app.state": BASE | {"space", "mesh", "formats", "survey", "regions", "datums", "treat", "job", "warmup"},
    "app.widgets": BASE | {"formats", "survey", "regions", "datums", "treat", "app.state"},
    "app.view": BASE | {"space", "mesh", "survey", "regions", "datums", "treat", "app.state", "app.widgets"},
    "app.tools": BASE
    | {"space", "mesh", "survey", "regions", "datums", "treat", "app.state", "app.widgets", "app.view"},
}
MAY_IMPORT["app.stations"] = MAY_IMPORT["app.tools"] | {"formats", "job", "app.tools"}
MAY_IMPORT["app.frame"] = MAY_IMPORT["app.stations"] | {"demo", "app.stations"}
FAMILIES = ("cut", "repair", "close", "colour", "shape", "stand", "reduce", "pieces")
INTERFACE = {"PySide6", "moderngl", "pyqtgraph", "qtawesome"}


def imports_of(path: Path) -> set[str]:
    """Full names of all that a file imports: modules, or names in one."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {f"{node.module}.{alias.name}" for alias in node.names}
    return found


def room_of(module: str) -> str:
    """The room that a module of the package lies in."""
    parts = module.split(".")[1:]
    return ".".join(parts[:2]) if parts[0] == "app" and len(parts) > 1 else parts[0]


class Structure(unittest.TestCase):
    def setUp(self) -> None:
        self.imports = {}
        for path in ROOT.rglob("*.py"):
            parts = [*path.relative_to(ROOT).with_suffix("").parts]
            name = ".".join(["tinsnip", *(parts[:-1] if parts[-1] == "__init__" else parts)])
            self.imports[name] = imports_of(path)

    def test_imports_run_one_way(self) -> None:
        checked = 0
        for module, names in self.imports.items():
            room = room_of(module) if module != "tinsnip" else ""
            for name in names:
                if not room.startswith("app") and room != "bench":  # which may drive the window
                    self.assertNotIn(name.split(".")[0], INTERFACE, module)
                if room in MAY_IMPORT and name.startswith("tinsnip.") and name != "tinsnip.__version__":
                    other = room_of(name)
                    checked += 1
                    self.assertTrue(other == room or other in MAY_IMPORT[room], f"{module} imports {name}")
        self.assertGreater(checked, 50)

    def test_families_of_treatments_know_the_kit_and_not_each_other(self) -> None:
        for module, names in self.imports.items():
            parts = module.split(".")
            if parts[1:2] == ["treat"] and parts[2:3] and parts[2] in FAMILIES:
                for name in names:
                    other = name.split(".")
                    if other[1:2] == ["treat"] and other[2:3] and other[2] in FAMILIES:
                        self.assertEqual(other[2], parts[2], f"{module} imports {name}")

    def test_no_circle(self) -> None:
        """Of modules, whatever part of the file the import stands in."""
        graph = {}
        for module, names in self.imports.items():
            known = set()
            for name in names:
                while name and name not in self.imports:  # a package's own names stand for the package
                    name = name.rpartition(".")[0]
                known.add(name)
            graph[module] = known - {module, "", "tinsnip"}
        try:
            tuple(TopologicalSorter(graph).static_order())
        except CycleError as error:
            self.fail(" -> ".join(error.args[1]))

    def test_no_code_knows_a_demo_scan_by_name(self) -> None:
        for path in [*ROOT.rglob("*.py"), *ROOT.rglob("*.json")]:
            part = path.relative_to(ROOT).parts[0]
            if part in ("space", "mesh", "formats", "survey", "regions", "treat", "job"):
                self.assertNotIn("pump", path.read_text("utf-8").lower(), path)


if __name__ == "__main__":
    unittest.main()
