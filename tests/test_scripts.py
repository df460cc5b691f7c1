"""Every example that scripts are given, run: the page, and the docstrings of what `import tinsnip` offers."""

import doctest
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

import tinsnip
from tests import specimens
from tinsnip import scripting
from tinsnip.formats import write_mesh
from tinsnip.mesh.subsets import keep_triangles

PAGE = Path(__file__).resolve().parent.parent / "docs" / "scripts.md"


class Examples(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        ring = specimens.torus(60.0, 64).mesh
        away = np.linalg.norm(ring.vertices[ring.faces].mean(axis=1) - ring.vertices[7], axis=1)
        holed = keep_triangles(ring, np.sort(np.argsort(away)[16:]))
        for name, mesh in (("ring", ring), ("holed", holed)):
            write_mesh(mesh, self.folder / f"{name}.ply")
        self.names = {"folder": self.folder, "ring": ring, "holed": holed, "tinsnip": tinsnip}

    def run_all(self, tests: list[doctest.DocTest]) -> int:
        runner = doctest.DocTestRunner(optionflags=doctest.ELLIPSIS)
        said: list[str] = []
        for test in tests:
            runner.run(test, out=said.append, clear_globs=False)
        counts = runner.summarize(verbose=False)
        self.assertEqual(counts.failed, 0, "".join(said))
        return counts.attempted

    def test_the_page(self) -> None:
        parsed = doctest.DocTestParser().get_doctest(PAGE.read_text("utf-8"), self.names, "scripts.md", str(PAGE), 0)
        self.assertGreater(self.run_all([parsed]), 15)

    def test_each_function_has_an_example_that_runs(self) -> None:
        found = doctest.DocTestFinder(recurse=False)
        functions = [
            getattr(scripting, n) for n in scripting.__all__ if callable(getattr(scripting, n)) and n.islower()
        ]
        self.assertEqual(len(functions), 9)
        for function in functions:
            with self.subTest(function.__name__):
                tests = found.find(function, globs=dict(self.names))
                self.assertGreater(self.run_all(tests), 0, "it has no example")

    def test_what_is_offered_is_there_and_costs_nothing_until_it_is_used(self) -> None:
        for name in scripting.__all__:
            self.assertIs(getattr(tinsnip, name), getattr(scripting, name))
            self.assertIn(name, dir(tinsnip))
        with self.assertRaises(AttributeError):
            _ = tinsnip.nothing_of_the_kind
        code = "import sys, tinsnip; print('numba' in sys.modules, 'numpy' in sys.modules)"
        told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
        self.assertEqual(told.split(), ["False", "False"])


if __name__ == "__main__":
    unittest.main()
