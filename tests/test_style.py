"""The code is clean by the project's own rules."""

import subprocess
import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


class Style(unittest.TestCase):
    def test_ruff(self) -> None:
        for arguments in (("check", "."), ("format", "--check", ".")):
            result = subprocess.run(
                [sys.executable, "-m", "ruff", *arguments], cwd=ROOT, capture_output=True, text=True
            )
            self.assertEqual(result.returncode, 0, result.stdout + result.stderr)


if __name__ == "__main__":
    unittest.main()
