"""The shelf by itself: whatever is committed is read back, and nothing that happens after can take it away."""

import os
import tempfile
import unittest
import zipfile
from pathlib import Path

import numpy as np

from tests import specimens
from tinsnip.errors import BadInput, Cancelled
from tinsnip.job.keeping import Held, Keeper, Kept
from tinsnip.job.shelf import Damaged, Shelf, open_archive
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.progress import Progress


class Members(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "shelf"

    def members(self, path: Path) -> tuple[dict[str, bytes], int]:
        """All members, read by the product, and where the directory ends."""
        file = os.open(path, os.O_RDONLY)
        try:
            slots, end = open_archive(file, path)
            return {name: os.pread(file, slot.size, slot.offset) for name, slot in slots.items()}, end
        finally:
            os.close(file)

    def test_random_histories_cut_off_anywhere(self) -> None:
        """After each commit the file is noted; cut anywhere behind it, the file opens as it was then, or later."""
        for seed in range(12):
            rng = np.random.default_rng(seed)
            path = self.path.with_name(f"{seed}")
            shelf = Shelf(path)
            state: dict[str, bytes] = {}
            commits: list[tuple[int, dict[str, bytes]]] = []
            for _ in range(int(rng.integers(3, 9))):
                for _ in range(int(rng.integers(1, 5))):
                    name = f"m{rng.integers(6)}"
                    # bytes that look like a directory's end are put into members too
                    data = rng.bytes(int(rng.integers(0, 4000))) + b"PK\x05\x06" * int(rng.integers(0, 3))
                    slot = shelf.put(name, data)
                    state[name] = data
                    self.assertEqual(slot.size, len(data))
                shelf.commit()
                commits.append((path.stat().st_size, dict(state)))
                self.assertTrue(shelf.is_intact)
            shelf.close()
            whole = path.read_bytes()
            with zipfile.ZipFile(path) as archive:  # and by any other reader
                self.assertIsNone(archive.testzip())
                self.assertEqual({n: archive.read(n) for n in archive.namelist()}, state)
            ends = [size for size, _ in commits]
            for end in [*ends, *rng.integers(ends[0], len(whole) + 1, 25).tolist()]:
                cut = path.with_name("cut")
                cut.write_bytes(whole[:end])
                found, told = self.members(cut)
                size, expected = max((c for c in commits if c[0] <= end), key=lambda c: c[0])
                self.assertEqual(found, expected)
                self.assertEqual(told, size)
            cut.write_bytes(whole + rng.bytes(300))  # and what others put behind it changes nothing
            self.assertEqual(self.members(cut), (state, len(whole)))

    def test_what_is_given_up_leaves_the_file_as_it_was(self) -> None:
        shelf = Shelf(self.path)
        shelf.put("a", b"first")
        shelf.commit()
        data = self.path.read_bytes()
        progress = Progress()

        def stop() -> None:
            with progress.at_work():
                shelf.put("b", b"second")
                progress.cancel()
                shelf.put("c", bytes(100))

        with self.assertRaises(Cancelled):
            stop()
        self.assertEqual(self.path.read_bytes(), data)
        shelf.put("b", b"again")
        shelf.commit(safely=True)
        shelf.put("c", b"never committed")
        shelf.close()
        self.assertEqual(self.members(self.path)[0], {"a": b"first", "b": b"again"})

    def test_arrays_come_back_or_are_refused(self) -> None:
        rng = np.random.default_rng(0)
        shelf = Shelf(self.path)
        arrays = [
            rng.random((7, 3)), rng.integers(0, 9, (11, 3), dtype=np.int32), np.zeros((0, 3)), np.ones((), np.uint8),
            rng.random(5).astype(np.float16), rng.integers(0, 2, 9).astype(bool), rng.random((4, 3, 2))[:, ::2],
        ]  # fmt: skip
        slots = []
        for i, array in enumerate(arrays):
            flat = np.ascontiguousarray(array)
            slots.append(shelf.put(f"{i}", memoryview(flat.reshape(-1)).cast("B") if flat.size else b""))
        shelf.commit()
        for array, slot in zip(arrays, slots, strict=True):
            self.assertTrue(np.array_equal(shelf.read(slot, array.dtype, array.shape), array))
        with self.assertRaises(Damaged):
            shelf.read(slots[0], np.dtype("<f8"), (8, 3))
        with self.path.open("r+b") as file:
            file.seek(slots[0].offset + 5)
            file.write(b"\x77")
        with self.assertRaises(Damaged):
            shelf.read(slots[0], np.dtype("<f8"), (7, 3))
        self.assertFalse(shelf.is_intact)
        os.truncate(self.path, slots[-1].offset)
        with self.assertRaises(Damaged):
            shelf.read(slots[-1], np.dtype("<f8"), (4, 2, 2))
        shelf.close()

    def test_no_archive_is_said(self) -> None:
        for data in (b"", b"PK", os.urandom(2000), b"PK\x05\x06" + b"\xff" * 18):
            self.path.write_bytes(data)
            with self.assertRaises(BadInput):
                self.members(self.path)


class Sharing(unittest.TestCase):
    def test_an_array_is_kept_once_however_many_meshes_have_it(self) -> None:
        ball = specimens.sphere(10.0, 30).mesh
        shade = np.zeros((len(ball.vertices), 3), dtype=np.uint8)
        ball = ball.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        meshes = [ball, *(ball.moved(ball.vertices + i) for i in range(1, 6))]
        with tempfile.TemporaryDirectory() as folder:
            keeper = Keeper(0, Path(folder) / "kept")
            kept = [Kept(mesh) for mesh in meshes]
            written = keeper.put(kept)
            own = ball.faces.nbytes + ball.provenance.nbytes + shade.nbytes
            self.assertEqual(written, own + len(meshes) * ball.vertices.nbytes)
            self.assertEqual(keeper.put(kept), 0)
            self.assertIs(kept[0].arrays["faces"], kept[3].arrays["faces"])
            expected = [mesh.vertices.copy() for mesh in meshes]
            del meshes, ball, shade
            for one in kept:
                one.let_go()
            again = [one.mesh for one in kept]
            self.assertTrue(all(np.array_equal(m.vertices, e) for m, e in zip(again, expected, strict=True)))
            self.assertTrue(all(m.faces is again[0].faces for m in again))  # read once, shared again
            self.assertTrue(all(not a.flags.writeable for m in again for a in (m.vertices, m.faces)))
            keeper.close()
            for one in kept:
                one.let_go()
            del again
            with self.assertRaises(OSError):
                _ = kept[0].mesh

    def test_one_that_stands_for_an_array_is_its_own(self) -> None:
        first, second = np.zeros(4), np.zeros(4)
        self.assertIs(Held.of(first), Held.of(first))
        self.assertIsNot(Held.of(first), Held.of(second))
        held = Held.of(first)
        for _ in range(200):  # arrays come and go in the same places of memory
            one = np.zeros(4)
            self.assertIsNot(Held.of(one), held)
            self.assertIs(Held.of(one).resident, one)
        self.assertIs(held.resident, first)

    def test_images_beside_a_texture_come_back(self) -> None:
        from PIL import Image

        rng = np.random.default_rng(1)
        pictures = {i: Image.fromarray(rng.integers(0, 256, (6 + i, 5, 3), dtype=np.uint8)) for i in range(2)}
        uv = rng.random((6, 2)).astype(np.float32)
        flat = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], [[0, 1, 2], [1, 3, 2]])
        mesh = flat.with_attribute("texture", Attribute(Domain.CORNER, uv, pictures))
        mesh = mesh.with_attribute("group", Attribute(Domain.TRIANGLE, np.arange(2), ("left", "right")))
        with tempfile.TemporaryDirectory() as folder:
            keeper = Keeper(0, Path(folder) / "kept")
            kept = Kept(mesh)
            keeper.put([kept])
            kept.let_go()
            del mesh
            again = kept.mesh
            self.assertTrue(np.array_equal(again.attributes["texture"].values, uv))
            for number, picture in again.attributes["texture"].beside.items():
                self.assertTrue(np.array_equal(np.asarray(picture), np.asarray(pictures[number])))
            self.assertEqual(again.attributes["group"].beside, ("left", "right"))
            keeper.close()


if __name__ == "__main__":
    unittest.main()
