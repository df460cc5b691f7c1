"""Three hundred damaged scans of parts: each ends with a file, and what is proposed makes it ready."""

import json
import re
import tempfile
import unittest
from pathlib import Path

from click.testing import CliRunner, Result

from tests import specimens
from tests.part_scans import part_scan
from tests.seeds import seeds
from tinsnip.cli import cli
from tinsnip.formats import write_mesh

_TURNS = 3
_MOST_COUNTED = 100_000
"""Triangles up to which vertices are counted by plain means too."""


class EndsWell(unittest.TestCase):
    """Through the command line, as whoever follows what it says would go on."""

    COUNT = 300

    def run_on(self, path: Path, out: Path, *more: str) -> tuple[Result, dict]:
        done = CliRunner().invoke(cli, ["run", "print-solid", str(path), "--out", str(out), "--json", *more])
        self.assertIn(done.exit_code, (0, 1), done.output)  # whatever can be read ends with a file
        return done, json.loads(done.stdout)["results"][0]

    def test_every_scan_has_a_file_and_its_proposal_carried_out_ends_ready(self) -> None:
        proposed = ready = 0
        chosen = list(seeds(self.COUNT, self.id(), 72))
        with tempfile.TemporaryDirectory() as keep:
            for seed in chosen:
                mesh, told = part_scan(seed)
                path, out = Path(keep) / f"{seed}.ply", Path(keep) / str(seed)
                write_mesh(mesh, path)
                with self.subTest(seed=seed, scan=" · ".join(told)):
                    done, facts = self.run_on(path, out)
                    asked: list[str] = []
                    was_proposed = bool(facts["proposal"])
                    while facts["proposal"] and len(asked) < 2 * _TURNS:
                        asked += re.search(r"--(?:set|recast) \S+", facts["proposal"])[0].split()
                        done, facts = self.run_on(path, out, "--replace", *asked)
                    self.assertEqual(done.exit_code, 0 if facts["ready"] else 1)
                    self.assertTrue(facts["ready"] or facts["reasons"])
                    proposed += was_proposed
                    ready += was_proposed and facts["ready"]
                    vertices, faces = specimens.read_stl(facts["out"])
                    if facts["ready"]:  # counted on the file, with nothing of the product's
                        self.assertEqual(specimens.closed_faults(vertices, faces), "")
                        self.assertTrue(len(faces) > _MOST_COUNTED or not specimens.knotted(faces).any())
        print(f"      {len(chosen)} scans, {proposed} with a proposal, {ready} of these ready once it was carried out")
        self.assertGreaterEqual(ready, 0.8 * proposed - 2)  # of a few, chance alone may leave two


if __name__ == "__main__":
    unittest.main()
