"""The shape of the code: imports run one way, and Qt stays in the window."""

import ast
import unittest
from pathlib import Path

import tinsnip

ROOT = Path(tinsnip.__file__).parent
MAY_IMPORT = {
    "errors": set(),
    "kernels": set(),
    "progress": {"errors"},
    "threads": set(),
    "mesh": {"kernels", "progress", "threads"},
    "formats": {"mesh", "errors", "kernels", "progress", "threads"},
    "survey": {"mesh", "errors", "kernels", "progress", "threads"},
    "treat": {"mesh", "survey", "errors", "kernels", "progress", "threads"},
    "job": {"mesh", "formats", "survey", "treat", "errors", "progress"},
    "demo": {"mesh", "formats", "survey", "job", "picture", "errors", "kernels", "progress", "threads"},
    "picture": {"mesh", "kernels"},
    "bench": {"mesh", "formats", "survey", "treat", "job", "progress", "demo", "app"},
}
INTERFACE = {"PySide6", "moderngl", "pyqtgraph", "qtawesome"}


def imports_of(path: Path) -> set[str]:
    """Full names of all modules that a file imports."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


class Structure(unittest.TestCase):
    def test_imports_run_one_way(self) -> None:
        checked = 0
        for path in ROOT.rglob("*.py"):
            part = path.relative_to(ROOT).parts[0].removesuffix(".py")
            for name in imports_of(path):
                if part != "app":
                    self.assertNotIn(name.split(".")[0], INTERFACE, path)
                if part not in MAY_IMPORT or not name.startswith("tinsnip."):
                    continue
                other = name.split(".")[1]
                checked += 1
                self.assertTrue(other == part or other in MAY_IMPORT[part], f"{path} imports {name}")
        self.assertGreater(checked, 50)

    def test_no_code_knows_a_demo_scan_by_name(self) -> None:
        for path in [*ROOT.rglob("*.py"), *ROOT.rglob("*.json")]:
            part = path.relative_to(ROOT).parts[0]
            if part in ("mesh", "formats", "survey", "treat", "job"):
                self.assertNotIn("pump", path.read_text("utf-8").lower(), path)


if __name__ == "__main__":
    unittest.main()
