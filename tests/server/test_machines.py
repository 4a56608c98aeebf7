"""Building and trying settings on a Dask cluster: real processes, killed for real, and the same arrays to the bit."""

import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from doppio.core.branches.dense.encoding import batches
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import Cancelled, DoppioError, ModelFolderError
from doppio.core.measure.gate import figure
from doppio.core.measure.sweep_plan import plan
from doppio.core.measure.sweeper import Sweeper
from doppio.core.models.registry import Models
from doppio.core.progress import Silent
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place
from doppio.core.store.far import FarFolder
from doppio.core.store.manifest import MANIFEST, read_manifest
from doppio.core.store.shared import SharedStore
from doppio.core.text.document import PARAGRAPH, DocumentBuilder, corpus_fingerprint
from doppio.machines.crew import DaskCrew
from tests.core.corpus import MODELS, documents, recipe
from tests.server.dask_cluster import Processes, encoded_by_another, unsettled
from tests.server.workspace import labelled

ENCODING = "doppio.core.branches.dense.encoding"
GRAPH = {"kind": "hnsw"}
# Every kind of task: terms, batches with the vectors of tokens, the counting of a training, structures.
EVERYTHING = recipe(
    branches=[
        {"id": "sparse", "kind": "bm25"},
        {"id": "dense", "kind": "vector", "structure": GRAPH},
        {"id": "own", "kind": "vector", "encoder": "corpus-terms"},
    ]
)


def corpus(count=60):
    """The small corpus, and as many sentences beside it."""
    words = "rope wind cabin tower brake grip line ice snow deck rail crown".split()
    random = np.random.default_rng(5)
    found = documents()
    for number in range(count):
        builder = DocumentBuilder()
        for _ in range(3):
            builder.add(PARAGRAPH, " ".join(random.choice(words, random.integers(4, 30))))
        found.append(builder.build(f"more-{number:03}.md"))
    return sorted(found, key=lambda document: document.id)


class Watching(Silent):
    """A progress that does something after so many units of encoding."""

    def __init__(self, after, what):
        self.after, self.what, self.step, self.done = after, what, "", 0

    def start(self, step, total, unit):
        self.step, self.done = step, 0

    def advance(self, count):
        self.done += count
        if self.step == "encode chunks" and self.done >= self.after and self.what is not None:
            what, self.what = self.what, None
            what()


class Machines(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.url = f"file://{cls.folder}/shared"
        cls.cluster = cls.enterClassContext(
            Processes(DOPPIO_STORE=cls.url, DOPPIO_MODELS=str(MODELS), DOPPIO_ARTIFACTS=str(cls.folder / "w" / "a"))
        )
        cls.corpus = corpus()
        cls.key = corpus_fingerprint(cls.corpus)
        cls.alone = ArtifactStore(cls.folder / "alone")
        cls.build(cls.alone, None)

    def setUp(self):
        # Little batches, so that there are many tasks.
        for name, rows in (("MOST_ROWS", 4), ("LEAST_ROWS", 1)):
            self.enterContext(mock.patch(f"{ENCODING}.{name}", rows))

    def crew(self):
        """Two workers, those that earlier tests left among them."""
        while len(self.cluster.workers) < 2:
            self.cluster.start_worker()
        crew = DaskCrew(self.cluster.address)
        self.cluster.until(lambda: len(crew.client().nthreads()) == 2, "the workers")
        self.addCleanup(lambda: crew.client().close())
        return crew

    @classmethod
    def build(cls, store, crew, progress=None, asked=EVERYTHING):
        with mock.patch(f"{ENCODING}.MOST_ROWS", 4), mock.patch(f"{ENCODING}.LEAST_ROWS", 1):
            given = {} if crew is None else {"crew": crew}
            builder = Builder(store, Models(MODELS), progress or Silent(), **given)
            texts = CorpusTexts(cls.corpus, builder.chunks(cls.corpus, cls.key, asked))
            builder.indexes(cls.key, asked, texts)
            return builder.open(cls.key, asked, texts)

    def fresh(self, name):
        """A store that the workers see, with nothing in it."""
        store = SharedStore(self.folder / name, FarFolder(self.url))
        for kind in ("segment", "postings", "vectors", "token-vectors", "structure", "trained-encoder"):
            for key, _ in list(store.listed(kind)):
                store.remove(kind, key)
        return store

    def assert_same(self, store):
        """Every array of every artifact is, byte for byte, what one process alone has made."""
        folders = sorted(path.parent for path in self.alone.root.glob(f"[!.]*/{MANIFEST}"))
        self.assertGreater(len(folders), 6)
        for folder in folders:
            kind, _, key = folder.name.rpartition("-")
            store.open(kind, key)
            mine, theirs = (read_manifest(root / folder.name) for root in (self.alone.root, store.root))
            self.assertEqual(mine["arrays"], theirs["arrays"], folder.name)
            self.assertEqual(mine["meta"], theirs["meta"], folder.name)

    def test_what_workers_build_is_what_one_machine_builds(self):
        store = self.fresh("built")
        with mock.patch("doppio.core.branches.dense.making.made_of", side_effect=AssertionError("encoded here")):
            self.build(store, self.crew())
        self.assert_same(store)

    def test_workers_and_a_scheduler_that_die_cost_time_and_nothing_else(self):
        store, crew = self.fresh("killed"), self.crew()
        port = self.cluster.address.rsplit(":", 1)[1]

        def kill_a_worker():
            self.cluster.end(self.cluster.workers.pop())

        self.build(store, crew, Watching(300, kill_a_worker))
        self.assert_same(store)

        def kill_the_scheduler():
            self.cluster.end(self.cluster.scheduler)
            threading.Timer(1.0, lambda: self.cluster.start_scheduler(int(port))).start()

        store = self.fresh("killed-again")
        self.build(store, crew, Watching(300, kill_the_scheduler))
        self.assert_same(store)

    def test_a_cancelled_build_lets_its_tasks_go_and_the_next_one_goes_on(self):
        store, crew = self.fresh("cancelled"), self.crew()

        def cancel():
            raise Cancelled("cancelled")

        with self.assertRaises(Cancelled):
            self.build(store, crew, Watching(400, cancel))
        self.cluster.until(lambda: not any(crew.client().processing().values()), "the end of the tasks")
        asked = []
        real = DaskCrew.each

        def counted(crew, work, tasks, *given):
            return real(crew, work, (asked.append(work.__name__) or task for task in tasks), *given)

        with mock.patch.object(DaskCrew, "each", counted):
            lengths = self.build(store, crew).chunks.indexed_tokens
        # Two encoders, each in as many batches.
        self.assertLess(asked.count("encode_there"), 2 * len(batches(lengths)) - 5)
        self.assert_same(store)

    def test_settings_are_tried_where_the_artifacts_are_seen(self):
        questions = labelled()
        asked = plan(recipe(), ["branches[0].k1=0.5,1.2,2", "chunking.size=24,40"], by="grid", most=10, seed=0)
        found = []
        for store, crew in ((ArtifactStore(self.folder / "sweep"), None), (self.fresh("sweep-there"), self.crew())):
            given = {} if crew is None else {"crew": crew}
            sweeper = Sweeper(Builder(store, Models(MODELS), Silent(), **given), documents(), questions)
            figures = np.full((len(asked.rows), len(sweeper.questions)), np.nan)
            with mock.patch.object(Sweeper, "figures", Sweeper.figures if crew is None else _not_here):
                rows = list(sweeper.tried(asked, figure("reranked:mrr"), figures, Silent()))
            self.assertEqual(rows, list(range(len(asked.rows))))
            found.append(figures)
        np.testing.assert_array_equal(*found)

    def test_another_model_another_store_and_a_worker_of_another_kind_are_told(self):
        crew, place = self.crew(), Place(Models(MODELS), self.alone)
        self.assertTrue(crew.sees(self.fresh("seen")))
        self.assertFalse(crew.sees(self.alone))
        with self.assertRaisesRegex(ModelFolderError, "compact-english: is another encoder than the one"):
            list(crew.each(encoded_by_another, [()], place, lambda: None))
        with self.assertRaisesRegex(DoppioError, "was not started by './doppio worker'"):
            list(crew.each(unsettled, [()], place, lambda: None))


class Nobody(unittest.TestCase):
    def test_a_cluster_that_is_not_there_or_has_no_workers_is_told(self):
        quick = mock.patch("doppio.machines.crew.CONNECT", 0.5)
        with quick, self.assertRaisesRegex(DoppioError, "no scheduler answers there"):
            DaskCrew("127.0.0.1:9").client()
        place = Place(Models(MODELS), ArtifactStore(Path("nowhere")))
        with Processes() as cluster:
            crew = DaskCrew(cluster.address, patience=0.1)
            self.addCleanup(crew.client().close)
            with self.assertRaisesRegex(DoppioError, "no worker is connected to the scheduler; start one with"):
                list(crew.each(encoded_by_another, [()], place, lambda: None))
            self.assertFalse(crew.sees(place.store))


def _not_here(*_):
    raise AssertionError("asked here")


if __name__ == "__main__":
    unittest.main()
