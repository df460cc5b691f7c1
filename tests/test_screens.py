"""On small, usual and very large screens, scaled, and with large letters: nothing cut, hidden or tiny."""

import json
import os
import subprocess
import sys
import tempfile
import unittest

from tests.hands import SCREEN
from tests.run import ROOT, start_screen
from tests.seeds import one_of

SCREENS = {
    "usual": ("1280x800", 1280, 800, {}),
    "small": ("1024x700", 1024, 700, {}),
    "full": ("1920x1080", 1920, 1080, {}),
    "wide": ("2560x1440", 2560, 1440, {}),
    "large": ("3840x2160", 3840, 2160, {}),
    "scaled": ("2560x1600", 1280, 800, {"QT_SCALE_FACTOR": "2"}),
    "large letters": ("1920x1080", 1920, 1080, {"QT_FONT_DPI": "144"}),
    "large letters, usual": ("1280x800", 1280, 800, {"QT_FONT_DPI": "144"}),
}


@unittest.skipUnless(SCREEN, "needs a virtual screen")
class Screens(unittest.TestCase):
    """Each in a process of its own."""

    def test_everything_fits(self) -> None:
        usual, *others = SCREENS
        for name in (usual, *one_of(others)):  # the usual one always, each other in its turn
            size, width, height, more = SCREENS[name]
            parts = ["parts"] if "usual" in name else []  # where there is least room
            with self.subTest(screen=name):
                was = dict(os.environ)
                screen = start_screen(size)
                try:
                    with tempfile.TemporaryDirectory() as folder:
                        for kind in ("CONFIG", "DATA", "STATE"):
                            os.environ[f"XDG_{kind}_HOME"] = f"{folder}/{kind}"
                        done = subprocess.run(
                            [sys.executable, "-m", "tests.screens", str(width), str(height), folder, *parts],
                            cwd=ROOT, env={**os.environ, **more}, capture_output=True, text=True, timeout=240,
                        )  # fmt: skip
                finally:
                    os.environ.clear()
                    os.environ.update(was)
                    screen.kill()
                    screen.wait()
                self.assertTrue(done.stdout, done.stderr[-2000:])
                self.assertEqual(json.loads(done.stdout.splitlines()[-1]), [], done.stderr[-500:])


if __name__ == "__main__":
    unittest.main()
