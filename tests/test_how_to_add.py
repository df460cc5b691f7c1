"""What the guide for contributors says of adding a treatment, a tool and a station, followed to the letter."""

import os
import re
import subprocess
import sys
import tempfile
import textwrap
import unittest
from pathlib import Path

from tests.hands import SCREEN

GUIDE = Path(__file__).resolve().parent.parent / "CONTRIBUTING.md"


def examples() -> dict[str, str]:
    """Each worked example by the file that it is to be put into."""
    blocks = re.findall(r"```python\n# (src/tinsnip/\S+)\n(.*?)```", GUIDE.read_text("utf-8"), re.S)
    return {name.removeprefix("src/tinsnip/"): code for name, code in blocks}


SCRIPT = """
import importlib, sys
from pathlib import Path
folder = Path(sys.argv[1])
for name in {modules}:  # as if each file stood where the guide puts it
    room = importlib.import_module("tinsnip." + ".".join(Path(name).parts[:-1]))
    room.__path__.append(str((folder / name).parent))
import tinsnip.treat as treat
from tinsnip.treat.shape.grow import Grow
treat.TREATMENTS[Grow.name] = Grow  # the one line
from tinsnip.app.stations import registry
from tinsnip.app.stations.weigh import WEIGH
registry.STATIONS = (*registry.STATIONS, WEIGH)  # the one line
sys.argv = sys.argv[:1]
{body}
"""

WINDOW = """
import unittest
from tests.hands import *
from tests import specimens
from tinsnip.formats import write_mesh
from PySide6.QtWidgets import QDoubleSpinBox, QPushButton

class Added(WindowTest):
    def runTest(self):
        path = Path(self.folder.name) / "ball.stl"
        write_mesh(specimens.sphere(20.0, 16).mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        def buttons(tray):
            return {b.text().replace("&", ""): b for b in tray.findChildren(QPushButton)}
        # the treatment, in its station's tray, then in the log, where it can be changed
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        field = next(s for s in tray.findChildren(QDoubleSpinBox) if s.accessibleName() == "By")
        self.type_number(field, "1.5")
        self.click(buttons(tray)["Grow"])
        self.assertEqual(self.session.job.log[-1].text, "Grew by 1.5 mm")
        self.assertAlmostEqual(self.session.mesh.size[0], 23.0, delta=0.2)
        self.window.editing.begin(1)
        self.settle()
        self.type_number(self.window.editor.form.field("by_mm").findChild(QDoubleSpinBox), "2")
        self.click(self.window.editor.copper)
        self.wait_for(lambda: self.session.job.log[-1].text == "Grew by 2 mm")
        # the tool: taken from its station's tray, dragged, drawn
        self.key(Qt.Key.Key_2)
        self.click(buttons(self.window.tray("Stand"))["Ruler"])
        before = self.window.grab().toImage()
        self.drag((150, 200), (350, 200), Qt.MouseButton.LeftButton)
        ruler = self.view.hand.tool
        self.assertAlmostEqual(ruler.length(), 200 * self.view.camera.scale, delta=0.01)
        self.assertNotEqual(self.window.grab().toImage(), before)
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.view.hand.tool)
        # the station: on the ticket, with its state and its tray
        row = self.window.ticket.rows[9]
        self.assertIn("cm³", row.state)
        self.click(row)
        self.assertEqual(self.session.station, "Weigh")
        self.assertRegex(self.window.tray("Weigh").weight.text(), r"[0-9.]+ g")

result = unittest.TextTestRunner().run(Added())
import os
sys.stdout.flush(); sys.stderr.flush()
os._exit(0 if result.wasSuccessful() else 1)
"""

COMMAND = """
import json
from tests import specimens
from tinsnip.cli import cli
from tinsnip.formats import read_scan, write_mesh
from tinsnip.job import Job
write_mesh(specimens.sphere(20.0, 16).mesh, folder / "ball.stl")
routine = {"name": "thick", "title": "Thick", "steps": [{"name": "grow", "treatment": "grow", "fields": {"by_mm": 1}}]}
(folder / "thick.json").write_text(json.dumps(routine))
out = folder / "out"
try:
    cli(["run", str(folder / "thick.json"), str(folder / "ball.stl"), "--out", str(out), "--set", "grow.by_mm=2"])
except SystemExit as done:
    assert done.code == 0, done.code
size = read_scan(out / "ball.stl", "mm").mesh.size
assert abs(size[0] - 24) < 0.2, size
"""


class HowToAdd(unittest.TestCase):
    def follow(self, body: str) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for file, code in examples().items():
                (folder / file).parent.mkdir(parents=True, exist_ok=True)
                (folder / file).write_text(code, "utf-8")
            script = folder / "follow.py"
            script.write_text(SCRIPT.format(modules=sorted(examples()), body=textwrap.dedent(body)), "utf-8")
            root = GUIDE.parent
            environment = os.environ | {"PYTHONPATH": f"{root}{os.pathsep}{root / 'src'}", "XDG_DATA_HOME": name}
            run = subprocess.run(
                [sys.executable, str(script), name], capture_output=True, text=True, env=environment, timeout=180
            )
            self.assertEqual(run.returncode, 0, run.stdout[-3000:] + run.stderr[-3000:])

    def test_the_examples_are_there(self) -> None:
        self.assertEqual(sorted(examples()), ["app/stations/weigh.py", "app/tools/ruler.py", "treat/shape/grow.py"])

    def test_a_treatment_reaches_routine_and_command_line(self) -> None:
        self.follow(COMMAND)

    @unittest.skipUnless(SCREEN, "needs a screen; ./tinsnip test starts one")
    def test_a_treatment_a_tool_and_a_station_reach_the_window(self) -> None:
        self.follow(WINDOW)


if __name__ == "__main__":
    unittest.main()
