"""The shape of the code: imports run one way, and Qt stays in the window."""

import ast
import subprocess
import sys
import unittest
from pathlib import Path

import tinsnip

ROOT = Path(tinsnip.__file__).parent
MAY_IMPORT = {
    "words": set(),
    "errors": set(),
    "kernels": set(),
    "progress": {"errors"},
    "threads": set(),
    "mesh": {"kernels", "progress", "threads"},
    "formats": {"mesh", "errors", "kernels", "progress", "threads"},
    "survey": {"mesh", "errors", "kernels", "progress", "threads", "words"},
    "treat": {"mesh", "survey", "errors", "kernels", "progress", "threads", "words"},
    "job": {"mesh", "formats", "survey", "treat", "errors", "progress", "words"},
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

    def test_the_warm_up_reaches_every_kernel(self) -> None:
        code = (
            "from tinsnip import kernels, warmup; warmup._files_half(); warmup._work_half();"
            "import importlib, pkgutil, tinsnip;"
            "names = [m.name for m in pkgutil.walk_packages(tinsnip.__path__, 'tinsnip.') if '.app' not in m.name];"
            "[importlib.import_module(n) for n in names if not n.endswith('__main__')];"
            "all_of_them = kernels.registered();"
            "inner = {name for k in all_of_them for name in k.py_func.__code__.co_names};"
            "idle = [k.py_func.__name__ for k in all_of_them if not k.signatures];"
            "print(sorted(set(idle) - inner))"
        )
        result = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(result.stdout.strip(), "[]")

    def test_no_code_knows_a_demo_scan_by_name(self) -> None:
        for path in [*ROOT.rglob("*.py"), *ROOT.rglob("*.json")]:
            part = path.relative_to(ROOT).parts[0]
            if part in ("mesh", "formats", "survey", "treat", "job"):
                self.assertNotIn("pump", path.read_text("utf-8").lower(), path)


if __name__ == "__main__":
    unittest.main()
