"""Jobs on the disk: they come back to the bit, grow by what is new, survive a kill at any moment, and trust no file."""

import contextlib
import functools
import io
import json
import os
import signal
import tempfile
import time
import unittest
import zipfile
import zlib
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from tests import specimens
from tests.seeds import in_turn, seeds
from tests.test_random_jobs import marked, some_treatment
from tinsnip.demo import demo_scan
from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job import CopyAsVariant, Job, Keeper, Planned, Rename, SetUnit, open_job, plan_of, replay, save_job
from tinsnip.job.jobdoc import SCHEMA, written
from tinsnip.job.jobfile import is_job_file, read_document
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import mean_edge
from tinsnip.regions import region_of_holes, region_of_shells
from tinsnip.survey import examine
from tinsnip.treat import Context, Mend, Merge, Orient, Patch, Reduce, SnipApart, StraightSnip, Sweep, Turn


@functools.lru_cache
def scan(name: str, seed: int, n: int = 16) -> Scan:
    rng = np.random.default_rng(seed)
    make = (specimens.sphere, specimens.torus, specimens.bored_box)[seed % 3]
    mesh = marked(specimens.damage(make(60.0, n), rng, hole_radius=0.12).mesh, rng)
    return Scan(Path(name), mesh, "ply", "mm", "as given")


def bits(mesh: Mesh) -> tuple:
    own = [mesh.vertices.tobytes(), mesh.faces.tobytes(), mesh.provenance.tobytes()]
    for name, attribute in mesh.attributes.items():
        beside = attribute.beside
        if isinstance(beside, dict):
            beside = {k: np.asarray(v).tobytes() for k, v in beside.items()}
        own += [name, attribute.domain, attribute.values.tobytes(), repr(beside)]
    return tuple(hash(part) for part in own)


def state(job: Job) -> list:
    """All that can be seen of a job as it stands."""
    return [(p.id, p.name, p.scan.unit, p.frame.tobytes(), bits(p.raw), bits(p.mesh)) for p in job.pieces]


class Walker:
    """Goes about in a job as a technician might."""

    def __init__(self, job: Job, rng: np.random.Generator, folder: Path) -> None:
        self.job, self.rng, self.folder = job, rng, folder
        self.done: dict[str, int] = {}
        self.shelf = None

    def step(self) -> None:
        acts = (self.treat, self.treat, self.treat, self.undo, self.redo, self.go, self.edit, self.switch, self.move)
        acts += (self.copy, self.rename, self.unit, self.apart, self.merge, self.save, self.reopen)
        act = acts[self.rng.integers(len(acts))]
        try:
            act()
            self.done[act.__name__] = self.done.get(act.__name__, 0) + 1
        except BadInput as refusal:
            assert "\n" not in str(refusal)
        if self.job.piece is None or sum(len(p.mesh.faces) for p in self.job.pieces) < 60:
            self.job.go_to(2)

    def treat(self) -> None:
        ids = [p.id for p in self.job.pieces]
        self.job.active = int(self.rng.choice(ids))
        piece = self.job.piece
        self.job.apply(some_treatment(piece.mesh, self.rng), Context(raw=piece.raw))

    def undo(self) -> None:
        self.job.undo()

    def redo(self) -> None:
        self.job.redo()

    def go(self) -> None:
        self.job.go_to(int(self.rng.integers(2, len(self.job.log) + 1)))

    def _replace(self, plan: list[Planned], text: str) -> None:
        found = replay(self.job.start, plan, self.job.next_id)
        if found.stopped is None:
            self.job.replace_log(found.steps, min(self.job.cursor, len(found.steps)), text)
        else:
            assert found.reason

    def _some(self) -> int:
        if len(self.job.log) < 3:
            raise BadInput("nothing to edit")
        return int(self.rng.integers(2, len(self.job.log)))

    def edit(self) -> None:
        plan, i = plan_of(self.job), self._some()
        piece = next((c.before or c.after for c in plan[i].step.changes), self.job.piece)
        action = some_treatment(piece.mesh, self.rng)
        plan[i] = Planned(plan[i].step, action, True)
        self._replace(plan, "edited")

    def switch(self) -> None:
        plan, i = plan_of(self.job), self._some()
        plan[i] = Planned(plan[i].step, plan[i].action, not plan[i].enabled)
        self._replace(plan, "switched")

    def move(self) -> None:
        plan, i = plan_of(self.job), self._some()
        j = min(max(2, i + int(self.rng.choice([-1, 1]))), len(plan) - 1)
        plan[i], plan[j] = plan[j], plan[i]
        self._replace(plan, "moved")

    def copy(self) -> None:
        if len(self.job.pieces) < 4:
            self.job.do(CopyAsVariant())

    def rename(self) -> None:
        self.job.do(Rename(to=f"part {self.rng.integers(100)}"))

    def unit(self) -> None:
        self.job.do(SetUnit(unit=str(self.rng.choice(["mm", "cm", "in"]))))

    def apart(self) -> None:
        mesh = self.job.piece.mesh
        self.job.do(SnipApart(normal=(0, 0.3, 1), offset=float(mesh.box.mean(axis=0) @ [0, 0.287, 0.958])))

    def merge(self) -> None:
        self.job.do(Merge(), [p.id for p in self.job.pieces][:2])

    def save(self) -> None:
        self.shelf = save_job(self.job, self.folder / "walk.snipjob", {}, shelf=self.shelf)

    def reopen(self) -> None:
        """A saved and opened job goes on as if it had not been."""
        self.save()
        before, log, cursor = state(self.job), [s.text for s in self.job.log], self.job.cursor
        opened = open_job(self.folder / "walk.snipjob", None, Keeper(None, self.folder / f"{time.time_ns()}.snipjob"))
        assert opened.lost == [], opened.lost
        assert state(opened.job) == before and [s.text for s in opened.job.log] == log
        assert (opened.job.cursor, opened.job.next_id) == (cursor, self.job.next_id)
        assert (len(opened.job.edits), opened.job.can_undo, opened.job.can_redo) == (
            len(self.job.edits), self.job.can_undo, self.job.can_redo,
        )  # fmt: skip
        self.job, self.shelf = opened.job, opened.shelf


class Walks(unittest.TestCase):
    def test_a_job_equals_one_replayed_from_its_scans(self) -> None:
        done: dict[str, int] = {}
        taken = list(seeds(200, self.id()))
        for seed in taken:
            with self.subTest(seed=seed), tempfile.TemporaryDirectory() as name:
                folder = Path(name)
                job = Job(Keeper(200_000 if seed % 2 else None, folder / "kept.snipjob"))
                for i in range(2):
                    job.open(scan(f"scan {i}.ply", seed % 12 + i, 12))
                walker = Walker(job, np.random.default_rng(seed), folder)
                for _ in range(9):
                    walker.step()
                    walker.job.spill()
                job = walker.job
                again = replay(job.start, plan_of(job), job.next_id, None, anew=True)
                self.assertIsNone(again.stopped, again.reason)
                copy = Job(Keeper(None, folder / "copy.snipjob"))
                copy.start, copy.log = dict(job.start), list(again.steps)
                copy.go_to(job.cursor)
                self.assertEqual(state(copy), state(job))
                for act, count in walker.done.items():
                    done[act] = done.get(act, 0) + count
        for act in ("treat", "undo", "redo", "edit", "switch", "move", "copy", "unit", "apart", "merge", "reopen"):
            self.assertGreater(done.get(act, 0), 10 if len(taken) == 200 else -1, act)

    def test_a_change_of_the_log_can_be_undone(self) -> None:
        job = Job()
        job.open(scan("one.ply", 1))
        for treatment in (Turn(degrees=20), Reduce(percent=60), StraightSnip(offset=1.0)):
            job.apply(treatment)
        before, log = state(job), list(job.log)
        plan = plan_of(job)
        plan[1] = Planned(plan[1].step, Turn(degrees=50), True)
        found = replay(job.start, plan, job.next_id)
        self.assertIs(found.steps[0], job.log[0])  # what comes before is not done again
        job.replace_log(found.steps, len(found.steps), "Changed step 2")
        after = state(job)
        self.assertNotEqual(after, before)
        self.assertEqual(job.next_undo(), "Changed step 2")
        job.undo()
        self.assertEqual(state(job), before)
        self.assertEqual(job.log, log)
        job.redo()
        self.assertEqual(state(job), after)
        job.undo()
        job.undo()  # and the last of the old steps
        self.assertEqual(job.cursor, 3)

    def test_a_step_that_cannot_be_done_again_says_why(self) -> None:
        job = Job()
        job.open(scan("one.ply", 0))
        job.apply(Mend())
        job.apply(Orient())
        found = examine(job.piece.mesh)
        hole = next(f for f in found.openings if f.kind.value == "hole")
        job.apply(Patch(holes=region_of_holes(job.piece.mesh, [hole.key])))
        plan = plan_of(job)
        away = hole.place - job.piece.mesh.box.mean(axis=0)
        away /= np.linalg.norm(away)
        offset = float(away @ hole.place) - 0.8 * hole.size - 4
        cut = StraightSnip(normal=tuple(away.tolist()), offset=offset, waste="above")
        plan[2] = Planned(plan[2].step, cut, True)  # takes the place of the hole away
        again = replay(job.start, plan, job.next_id)
        self.assertEqual(again.stopped, 3)
        self.assertIn("not on the part any more", again.reason)
        self.assertEqual(len(again.steps), 3)


class Pieces(unittest.TestCase):
    def test_both_sides_of_a_snip_fit_to_the_bit(self) -> None:
        ring = specimens.torus(40.0, 50).mesh
        rng = np.random.default_rng(0)
        uv = rng.random((3 * len(ring.faces), 2)).astype(np.float32)
        ring = ring.with_attribute("texture", Attribute(Domain.CORNER, uv, {}))
        for close in (False, True):
            job = Job()
            job.open(Scan(Path("ring.stl"), ring, "stl", "mm", ""))
            job.do(SnipApart(normal=(1, 2, 0.5), offset=0.7, close=close))
            one, other = (p.mesh for p in job.pieces)
            self.assertAlmostEqual(one.area + other.area - ring.area, 2 * (one.areas[2] if close else 0.0), places=6)
            if close:
                self.assertEqual((one.edges.open, other.edges.open), (0, 0))
                self.assertAlmostEqual(one.volume + other.volume, ring.volume, places=6)
                continue
            rows = [{tuple(v) for v in m.vertices[np.unique(m.faces)]} for m in (one, other)]
            old = {tuple(v) for v in ring.vertices}
            fresh = [r - old for r in rows]
            self.assertEqual(*fresh)  # the very same points along the cut
            self.assertGreater(len(fresh[0]), 20)
            # and what belongs to the corners lies between that of the corners cut apart
            self._texture_is_linear(ring, one)
            self.assertEqual([p.name for p in job.pieces], ["ring.stl", "ring.stl, other side"])
            job.undo()
            self.assertEqual([bits(p.mesh) for p in job.pieces], [bits(ring)])

    def _texture_is_linear(self, whole: Mesh, part: Mesh) -> None:
        """Each corner's value is that of its place on the triangle it came from."""
        own, old = (m.attributes["texture"].values.reshape(-1, 3, 2) for m in (part, whole))
        middles = {tuple(np.round(v, 9)): i for i, v in enumerate(whole.vertices[whole.faces].mean(axis=1))}
        checked = 0
        corners = whole.vertices[whole.faces]
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        for f in range(len(part.faces)):
            if tuple(np.round(part.vertices[part.faces[f]].mean(axis=0), 9)) in middles:
                continue
            points = part.vertices[part.faces[f]]
            # the triangle of the whole that all three corners lie in
            weights = [
                np.einsum("fk,fk->f", np.cross(corners[:, (k + 1) % 3] - p, corners[:, (k + 2) % 3] - p), normal)
                / np.einsum("fk,fk->f", normal, normal)
                for p in points
                for k in range(3)
            ]
            weights = np.array(weights).reshape(3, 3, -1)
            off = [np.abs(np.einsum("fk,fk->f", corners[:, 0] - p, normal)) for p in points]
            inside = (weights > -1e-9).all(axis=(0, 1)) & (np.max(off, axis=0) < 1e-6 * np.linalg.norm(normal, axis=1))
            source = int(np.flatnonzero(inside)[0])
            expected = weights[:, :, source] @ old[source]
            self.assertLess(np.abs(own[f] - expected).max(), 1e-5)
            checked += 1
            if checked > 60:
                return
        self.assertGreater(checked, 20)

    def test_merging_changes_no_triangle(self) -> None:
        job = Job()
        scans = [scan("one.ply", 0), scan("two.ply", 1)]
        for one in scans:
            job.open(one)
        job.apply(Turn(degrees=30))
        meshes = [p.mesh for p in job.pieces]
        job.do(Merge(), [1, 2])
        merged = job.piece.mesh
        self.assertEqual([p.id for p in job.pieces], [1])
        soup = np.concatenate([m.vertices[m.faces] for m in meshes])
        self.assertTrue(np.array_equal(merged.vertices[merged.faces], soup))
        self.assertTrue(np.array_equal(merged.colour, np.concatenate([m.colour for m in meshes])))
        self.assertEqual(len(merged.shells), sum(len(m.shells) for m in meshes))
        # measured against the raw scans where they stand now, nothing is off
        raw = job.piece.raw
        off = raw.vertices[raw.faces] @ job.piece.frame[:3, :3].T + job.piece.frame[:3, 3] - soup
        self.assertLess(np.abs(off).max(), 1e-9)
        job.undo()
        self.assertEqual([p.id for p in job.pieces], [1, 2])
        with self.assertRaises(BadInput):
            job.do(Merge(), [1])

    def test_units_names_and_variants_are_steps(self) -> None:
        job = Job()
        job.open(scan("one.ply", 0))
        job.apply(Reduce(percent=50))
        raw, mesh = job.piece.raw, job.piece.mesh
        job.copy_as_variant()
        job.do(SetUnit(unit="cm"))  # the copy, after work was done: raw and work grow together
        self.assertLess(np.abs(job.piece.mesh.vertices - 10 * mesh.vertices).max(), 1e-9)
        self.assertLess(np.abs(job.piece.raw.vertices - 10 * raw.vertices).max(), 1e-9)
        self.assertIs(job.present[1].mesh, mesh)
        job.do(Rename(to="bracket"))
        job.open(scan("late.ply", 2))
        self.assertEqual([p.name for p in job.pieces], ["one.ply", "bracket", "late.ply"])
        for names in (["one.ply", "bracket"], ["one.ply", "one.ply, variant 2"]):
            job.undo()
            self.assertEqual([p.name for p in job.pieces], names)
        job.undo()
        self.assertEqual(job.present[2].scan.unit, "mm")
        self.assertIs(job.present[2].mesh, mesh)


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "a.snipjob"
        self.job = Job(Keeper(None, self.folder / "kept.snipjob"))
        self.job.open(scan("one.ply", 1, 24))
        for treatment in (Mend(), Orient(), Turn(degrees=15), Reduce(percent=70)):
            self.job.apply(treatment)
        self.shelf = save_job(self.job, self.path, {"station": "Trim"}, picture=self.png())

    @staticmethod
    def png() -> bytes:
        data = io.BytesIO()
        Image.new("RGB", (32, 20), (90, 120, 40)).save(data, "PNG")
        return data.getvalue()

    def reopened(self) -> Job:
        opened = open_job(self.path)
        self.assertEqual(opened.lost, [])
        return opened.job

    def test_anyone_can_read_it(self) -> None:
        """With nothing but a ZIP reader and the description."""
        with zipfile.ZipFile(self.path) as archive:
            self.assertIsNone(archive.testzip())
            doc = json.loads(archive.read("job.json"))
            self.assertEqual(doc["schema_version"], SCHEMA)
            self.assertEqual(doc["view"], {"station": "Trim"})
            self.assertEqual(Image.open(io.BytesIO(archive.read("picture.png"))).size, (32, 20))
            last = doc["steps"][doc["log"]["steps"][doc["log"]["cursor"] - 1]]
            piece = doc["pieces"][last["changes"][0]["after"]]
            mesh = doc["meshes"][piece["mesh"]]

            def array(number: int) -> np.ndarray:
                row = doc["arrays"][number]
                data = archive.read(row["member"])
                self.assertEqual(zlib.crc32(data), row["crc"])
                return np.frombuffer(data, row["dtype"]).reshape(row["shape"])

            self.assertTrue(np.array_equal(array(mesh["vertices"]), self.job.piece.mesh.vertices))
            self.assertTrue(np.array_equal(array(mesh["faces"]), self.job.piece.mesh.faces))
            # each array once, however many meshes share it: turning leaves the triangles as they are
            used = [n for m in doc["meshes"] for n in (m["vertices"], m["faces"], m["provenance"])]
            self.assertLess(len(set(used)), len(used))
            before = doc["meshes"][doc["pieces"][doc["steps"][3]["changes"][0]["before"]]["mesh"]]
            after = doc["meshes"][doc["pieces"][doc["steps"][3]["changes"][0]["after"]]["mesh"]]
            self.assertEqual(doc["steps"][3]["action"], "turn")
            self.assertEqual((before["faces"], before["provenance"]), (after["faces"], after["provenance"]))
        self.assertEqual(read_document(self.path)[1], self.png())

    def test_a_job_that_stands_before_its_first_step_does_so_again(self) -> None:
        self.job.go_to(0)
        self.shelf = save_job(self.job, self.path, {}, shelf=self.shelf)
        again = self.reopened()
        self.assertEqual((again.cursor, again.pieces, len(again.log)), (0, [], 5))
        again.go_to(5)
        self.job.go_to(5)
        self.assertEqual(state(again), state(self.job))
        save_job(Job(), self.folder / "none.snipjob", {}).close()  # nothing was ever opened
        self.assertEqual(open_job(self.folder / "none.snipjob").job.log, [])

    def test_what_has_not_changed_is_not_written_again(self) -> None:
        size = self.path.stat().st_size
        first = self.path.read_bytes()
        self.job.apply(Turn(degrees=3))
        self.shelf = save_job(self.job, self.path, {}, shelf=self.shelf)
        grown = self.path.stat().st_size - size
        self.assertLess(grown, self.job.piece.mesh.vertices.nbytes + 60_000)
        self.assertTrue(self.path.read_bytes().startswith(first))  # what was there was not touched
        self.assertEqual(state(self.reopened()), state(self.job))
        # saved over and over without much new, it does not grow without end
        for _ in range(40):
            self.shelf = save_job(self.job, self.path, {}, shelf=self.shelf)
        self.assertLess(self.path.stat().st_size, 4 * size + (1 << 22))
        # elsewhere it is whole by itself, and so it is when the file is another one by now
        other = save_job(self.job, self.folder / "b.snipjob", {}, shelf=self.shelf)
        self.path.write_bytes(b"something else")
        save_job(self.job, self.path, {}, shelf=self.shelf)
        other.close()
        for path in (self.path, self.folder / "b.snipjob"):
            self.assertEqual(state(open_job(path).job), state(self.job))

    def test_a_save_that_is_cut_off_leaves_the_one_before(self) -> None:
        size, before = self.path.stat().st_size, state(self.job)
        self.job.apply(Turn(degrees=3))
        save_job(self.job, self.path, {}, shelf=self.shelf)
        whole = self.path.read_bytes()
        rng = np.random.default_rng(0)
        for end in [size + 1, len(whole) - 1, *rng.integers(size + 1, len(whole), 12).tolist()]:
            self.path.write_bytes(whole[:end])
            self.assertTrue(is_job_file(self.path))
            opened = open_job(self.path)
            self.assertEqual(state(opened.job), before)
            self.assertIn("cut off", opened.lost[0])
            opened.shelf.close()

    def test_a_disk_that_fails_leaves_the_file_as_it_was(self) -> None:
        data = self.path.read_bytes()
        self.job.apply(Turn(degrees=3))
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")), self.assertRaises(BadInput):
            save_job(self.job, self.path, {}, shelf=self.shelf)
        self.assertEqual(self.path.read_bytes(), data)
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")), self.assertRaises(BadInput):
            save_job(self.job, self.folder / "new.snipjob", {})
        self.assertFalse((self.folder / "new.snipjob").exists())
        self.assertEqual([p for p in self.folder.iterdir() if p.suffix == ".part"], [])
        self.shelf = save_job(self.job, self.path, {}, shelf=self.shelf)  # and goes on when there is room
        self.assertEqual(state(self.reopened()), state(self.job))

    def rewritten(self, change: object = None, members: dict[str, bytes] | None = None, **options: object) -> None:
        """The file with its document changed, and members replaced."""
        with zipfile.ZipFile(self.path) as archive:
            own = {n: archive.read(n) for n in archive.namelist()}
        doc = json.loads(own["job.json"])
        if change is not None:
            change(doc)
        own["job.json"] = json.dumps(doc).encode()
        own |= members or {}
        with zipfile.ZipFile(self.path, "w", **options) as archive:
            for name, data in own.items():
                archive.writestr(name, data)

    def test_hostile_documents_are_refused_in_one_line(self) -> None:
        whole = self.path.read_bytes()

        def put(*path: object, value: object) -> object:
            def change(doc: dict) -> None:
                at = doc
                for key in path[:-1]:
                    at = at[key]
                at[path[-1]] = value

            return change

        last = -1
        cases = {
            "newer": (put("schema_version", value=SCHEMA + 1), "update Tinsnip"),
            "newer and unknown": (lambda d: (d.clear(), d.update(schema_version=99, steps="?")), "update Tinsnip"),
            "no version": (lambda d: d.pop("schema_version"), "no schema version"),
            "never written": (put("schema_version", value=0), "was never written"),
            "list": (put("arrays", value={"a": 1}), "damaged"),
            "text": (put("log", "cursor", value="x"), "damaged"),
            "minus": (put("arrays", 0, "shape", value=[-4, 3]), "damaged"),
            "objects": (put("arrays", 0, "dtype", value="|O"), "damaged"),
            "vast": (put("arrays", 0, "shape", value=[2**40, 2**40]), ""),
            "vast document": (put("view", value={"x": [[[[[[[0]]]]]]] * 1000}), ""),
            "no arrays": (put("arrays", value=[]), "none of its meshes is whole"),
            "no meshes": (put("meshes", value=[]), "none of its meshes is whole"),
            "wrong meshes": (lambda d: [m.update(faces=m["vertices"]) for m in d["meshes"]], "none of its meshes"),
            "beyond": (put("steps", last, "changes", 0, "after", value=10**9), ""),
            "cursor": (put("log", "cursor", value=10**9), ""),
            "flat frame": (lambda d: [p.update(frame=[[0.0] * 4] * 4) for p in d["pieces"]], "none of its meshes"),
            "ragged frame": (lambda d: [p.update(frame=[[1.0]] * 4) for p in d["pieces"]], "none of its meshes"),
            "unknown action": (put("steps", last, "action", value="rm -rf"), ""),
            "unknown field": (put("steps", last, "fields", value={"path": "/etc"}), ""),
            "another id": (put("pieces", last, "id", value=77), ""),
            "figures": (put("steps", last, "figures", value={"matrix": {"a": 1}}), ""),
            "no numbers": (put("steps", last, "figures", value={"made_mm2": "x", "undone": 7}), ""),
            "id": (put("next_id", value=10**30), ""),
        }
        for name, (change, words) in cases.items():
            with self.subTest(name):
                self.path.write_bytes(whole)
                self.rewritten(change)
                try:
                    opened = open_job(self.path)
                except BadInput as refusal:
                    self.assertNotIn("\n", str(refusal))
                    self.assertIn(words, str(refusal))
                    continue
                self.assertEqual(words, "", "should have been refused")
                self.goes_on(opened.job)
        for name, members in {
            "no document": {"job.json": b""},
            "no JSON": {"job.json": b"{" * 100_000},
            "bytes": {"job.json": bytes(range(256)) * 100},
        }.items():
            with self.subTest(name):
                self.path.write_bytes(whole)
                self.rewritten(None, members)
                with self.assertRaises(BadInput) as caught:
                    open_job(self.path)
                self.assertNotIn("\n", str(caught.exception))
        for data in (b"", b"PK\x05\x06" + bytes(18), b"PK\x05\x06" * 5000, os.urandom(5000), whole[:5000]):
            self.path.write_bytes(data)
            with self.assertRaises(BadInput):
                open_job(self.path)
        # what is packed is not unpacked: a bomb stays one
        self.path.write_bytes(whole)
        self.rewritten(None, {"arrays/000001": bytes(50_000_000)}, compression=zipfile.ZIP_DEFLATED)
        with self.assertRaises(BadInput):
            open_job(self.path)

    def goes_on(self, job: Job) -> None:
        """A job that was opened can be gone through and worked on."""
        for cursor in range(len(job.log) + 1):
            job.go_to(cursor)
            for piece in job.pieces:
                self.assertTrue(np.isfinite(piece.mesh.vertices).all())
                self.assertEqual(len(piece.mesh.provenance), len(piece.mesh.faces))
        if job.piece is not None:
            job.apply(Turn(degrees=1))
        written_again = self.folder / "again.snipjob"
        save_job(job, written_again, {}).close()
        open_job(written_again).shelf.close()

    def test_damaged_files_open_as_far_as_they_are_whole(self) -> None:
        whole = self.path.read_bytes()
        with zipfile.ZipFile(self.path) as archive:
            infos = {i.filename: i for i in archive.infolist()}
            doc = json.loads(archive.read("job.json"))
        mesh_of = {a["member"]: i for i, a in enumerate(doc["arrays"])}
        losses = []
        for name, info in infos.items():
            if not name.startswith("arrays/"):
                continue
            with self.subTest(name):
                data = bytearray(whole)
                data[info.header_offset + 60 + info.file_size // 2] ^= 0xFF
                self.path.write_bytes(bytes(data))
                number = mesh_of[name]
                owners = [
                    i for i, m in enumerate(doc["meshes"])
                    if number in (m["vertices"], m["faces"], m["provenance"], *(a["values"] for a in m["attributes"]))
                ]  # fmt: skip
                try:
                    opened = open_job(self.path)
                except BadInput as refusal:
                    self.assertIn("none of its meshes is whole", str(refusal))
                    self.assertEqual(len(owners), len(doc["meshes"]))
                    continue
                self.assertTrue(opened.lost)
                losses += opened.lost
                if doc["pieces"][-1]["mesh"] not in owners:  # the mesh that was shown is whole, and is shown again
                    self.assertEqual(bits(opened.job.piece.mesh), bits(self.job.piece.mesh))
                self.goes_on(opened.job)
                opened.shelf.close()
        self.assertTrue(any("raw scan" in text for text in losses))
        self.assertTrue(any("cannot be gone back to" in text for text in losses))
        rng = np.random.default_rng(3)
        for _ in range(60):  # any bytes at all
            data = bytearray(whole)
            for at in rng.integers(0, len(data), 3):
                data[at] = int(rng.integers(256))
            self.path.write_bytes(bytes(data[: rng.integers(1000, len(data) + 1)] if rng.integers(2) else data))
            try:
                opened = open_job(self.path)
            except BadInput as refusal:
                self.assertNotIn("\n", str(refusal))
                continue
            self.goes_on(opened.job)
            opened.shelf.close()


def scripted(job: Job, until: int, note: object = lambda job, i: None) -> None:
    """A long job on two pieces that goes the same way wherever it is taken up."""
    while len(job.log) < until:
        i = len(job.log)
        rng = np.random.default_rng(i)
        job.active = 1 + i % 2
        some = (Mend(), Mend(), Orient(), Orient())[i - 2] if i < 6 else some_treatment(job.piece.mesh, rng)
        with contextlib.suppress(BadInput):
            job.apply(some, Context(raw=job.piece.raw))
        if len(job.log) == i or len(job.piece.mesh.faces) < 200:  # nothing came of it: something that always does
            if len(job.log) > i:
                job.undo()
            job.apply(Turn(degrees=1.0 + i))
        note(job, len(job.log))


class Kills(unittest.TestCase):
    def test_a_kill_at_any_moment_costs_the_running_step_at_most(self) -> None:
        steps = 14
        straight = Job()
        for i in range(2):
            straight.open(scan(f"{i}.ply", 3 + i, 16))
        raws = state(straight)
        scripted(straight, steps)
        rng = np.random.default_rng(1)
        reached = []
        with tempfile.TemporaryDirectory() as name:
            for turn in range(30):
                path = Path(name) / f"{turn}.snipjob"
                read, write = os.pipe()
                child = os.fork()
                if child == 0:  # the process that is going to be killed
                    try:
                        os.close(read)
                        job = Job(Keeper(None, path))

                        def keep(job: Job, count: int, write: int = write) -> None:
                            job.keeper.put(job.all_kept(), lambda shelf: written(job.snapshot(), shelf, {}, "", True))
                            os.write(write, bytes([count]))

                        for i in range(2):
                            job.open(scan(f"{i}.ply", 3 + i, 16))
                        keep(job, 2)
                        scripted(job, steps, keep)
                    finally:
                        os._exit(0)
                os.close(write)
                told = os.read(read, 1)  # the scans are kept: from here on nothing may be lost
                until = int(rng.integers(0, steps))
                while len(told) <= until and (more := os.read(read, 1)):
                    told += more
                time.sleep(float(rng.uniform(0.0, 0.01)))  # in the middle of a step, and of writing it
                os.kill(child, signal.SIGKILL)
                os.waitpid(child, 0)
                with os.fdopen(read, "rb") as pipe:
                    told += pipe.read()
                opened = open_job(path, None, Keeper(None, Path(name) / f"{turn}-again.snipjob"))
                job = opened.job
                self.assertGreaterEqual(len(job.log), max(told))
                self.assertLessEqual(len(job.log), max(told) + 1)
                reached.append(len(job.log))
                self.assertEqual([s[4] for s in state(job)], [s[4] for s in raws])
                scripted(job, steps)
                self.assertEqual(state(job), state(straight))
        self.assertGreater(len(set(reached)), 3)


class Editing(unittest.TestCase):
    @in_turn(2)
    def test_another_bed_height_finds_the_same_holes_and_shells(self) -> None:
        for name in ("pump-cover", "fountain-spout", "gauge-lantern-lower"):
            with self.subTest(name):
                mesh = demo_scan(name, 40_000)
                job = Job()
                job.open(Scan(Path(f"{name}.ply"), mesh, "ply", "mm", ""))
                job.apply(Mend())
                job.apply(Orient())
                low, high = job.piece.mesh.box[:, 2]
                bed = float(low + 0.06 * (high - low))
                job.apply(StraightSnip(offset=bed))
                cut = len(job.log) - 1
                found = examine(job.piece.mesh)
                strays = found.strays[::2][:12]
                if strays:
                    job.apply(Sweep(shells=region_of_shells(job.piece.mesh, [f.key for f in strays])))
                holes = [f for f in examine(job.piece.mesh).openings if f.kind.value == "hole"]
                ticked, left = holes[::2], holes[1::2]
                self.assertTrue(ticked and left)
                job.apply(Patch(flow=0.0, holes=region_of_holes(job.piece.mesh, [f.key for f in ticked])))
                for other in (bed + 0.03 * (high - low), bed - 0.03 * (high - low)):
                    plan = plan_of(job)
                    plan[cut] = Planned(plan[cut].step, StraightSnip(offset=float(other)), True)
                    again = replay(job.start, plan, job.next_id)
                    self.assertIsNone(again.stopped, again.reason)
                    steps = {s.action.name: s for s in again.steps}
                    before = steps["patch"].changes[0].before.mesh
                    after = steps["patch"].changes[0].after.mesh
                    edge = mean_edge(after.vertices, after.faces)
                    clear = [f for f in ticked if f.outline[:, 2].min() > max(bed, other) + 3 * edge]
                    self.assertTrue(clear)
                    self.at_places(before, clear, True)
                    self.at_places(after, clear, False)
                    kept = [f for f in left if f.outline[:, 2].min() > max(bed, other) + 3 * edge]
                    self.at_places(after, kept, True)
                    if strays:
                        swept = steps["sweep"].changes[0].after.mesh
                        there = {tuple(v) for v in swept.vertices[np.unique(swept.faces)]}
                        for finding in strays:
                            if finding.outline[:, 2].min() > max(bed, other):
                                self.assertFalse(any(tuple(v) in there for v in finding.outline), finding.id)

    def at_places(self, mesh: Mesh, findings: list, is_open: bool) -> None:
        """Whether the edges of some holes are open edges of a mesh, by their places alone."""
        corner = mesh.faces.ravel()
        half = np.flatnonzero(mesh.twins == -1)
        ends = mesh.vertices[np.unique(np.concatenate([corner[half], corner[half - half % 3 + (half + 1) % 3]]))]
        rim = {tuple(v) for v in ends}
        for finding in findings:
            share = np.mean([tuple(v) in rim for v in finding.outline])
            self.assertGreater(share, 0.9, finding.id) if is_open else self.assertLess(share, 0.35, finding.id)


if __name__ == "__main__":
    unittest.main()
