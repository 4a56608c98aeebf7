"""Building and trying settings on a Dask cluster: real processes, killed for real, and the same arrays to the bit."""

import os
import signal
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from django.test import override_settings
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.command import worker
from doppio.core.branches.dense.encoding import batches
from doppio.core.branches.sparse.spread import SpreadSparse
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import Cancelled, DoppioError, ModelFolderError, NobodyAnswers
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
from doppio.core.text.document import corpus_fingerprint
from doppio.machines import here
from doppio.machines.crew import DaskCrew
from doppio.machines.placement import groups_of, placed
from doppio.machines.shards import DaskShards
from doppio.recipes import builds, opened
from doppio.recipes.builds import open_pipeline
from doppio.recipes.services import core_recipe
from tests.core.corpus import MODELS, documents, more_documents, recipe
from tests.server.committed import Committed
from tests.server.dask_cluster import Processes, encoded_by_another, unsettled
from tests.server.workspace import labelled, make_workspace, measured

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


class Clustered(unittest.TestCase):
    """A scheduler, a shared store, and workers that see it."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.url = f"file://{cls.folder}/shared"
        cls.cluster = cls.enterClassContext(
            Processes(DOPPIO_STORE=cls.url, DOPPIO_MODELS=str(MODELS), DOPPIO_ARTIFACTS=str(cls.folder / "w" / "a"))
        )
        # They come up while what they are compared with is made.
        for _ in range(2):
            cls.cluster.start_worker()
        cls.corpus = more_documents(60)
        cls.key = corpus_fingerprint(cls.corpus)

    def crew(self):
        """Two workers at least, those that earlier tests left among them."""
        while len(self.cluster.workers) < 2:
            self.cluster.start_worker()
        crew = DaskCrew(self.cluster.address)
        self.cluster.until(lambda: len(crew.client().nthreads()) == len(self.cluster.workers), "the workers")
        self.addCleanup(lambda: crew.client().close())
        return crew


class Machines(Clustered):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.alone = ArtifactStore(cls.folder / "alone")
        cls.build(cls.alone, None)

    def setUp(self):
        # Little batches, so that there are many tasks.
        for name, rows in (("MOST_ROWS", 4), ("LEAST_ROWS", 1)):
            self.enterContext(mock.patch(f"{ENCODING}.{name}", rows))

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


class Shards(Clustered, Committed):
    """Asking over segments on workers."""

    ASKED = ("rope wind cabin", "What is E-417?", "ice on the deck of the tower")

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.store = SharedStore(cls.folder / "mine", FarFolder(cls.url))
        cls.models = Models(MODELS)
        cls.recipe = recipe(rerank=None)
        builder = Builder(cls.store, cls.models, most_chunks=40)
        cls.texts = CorpusTexts(cls.corpus, builder.chunks(cls.corpus, cls.key, cls.recipe))
        builder.indexes(cls.key, cls.recipe, cls.texts)
        cls.alone = builder.open(cls.key, cls.recipe, cls.texts)

    def opened(self, crew, **given):
        """A pipeline over the workers, and the shards that it asks."""
        found = []

        def spread(listed):
            found.append(DaskShards(crew, listed, **given))
            return found[0]

        builder = Builder(self.store, self.models, most_chunks=40, spread=spread)
        return builder.open(self.key, self.recipe, self.texts), found[0]

    def assert_same(self, pipeline):
        for question in self.ASKED:
            mine, theirs = self.alone.ask(question), pipeline.ask(question)
            self.assertEqual(theirs.absent, ())
            for one, two in zip(mine.stages, theirs.stages, strict=True):
                np.testing.assert_array_equal(one.chunks, two.chunks)
                np.testing.assert_array_equal(one.scores, two.scores)

    def test_workers_answer_as_one_index_a_late_one_is_left_out_and_one_that_comes_takes_its_share(self):
        crew = self.crew()
        pipeline, shards = self.opened(crew, last=1.0)
        self.assertGreater(len(shards.placement), 3)
        self.assertEqual(len({holder for own in shards.placement for holder in own}), 2)
        self.assert_same(pipeline)
        stopped = self.cluster.workers[0]
        os.killpg(stopped.pid, signal.SIGSTOP)
        try:
            trace = pipeline.ask(self.ASKED[0])
            self.assertRegex(trace.absent[0], r"^\d of \d segments, \d+ chunks, did not answer in time$")
            self.assertGreater(len(trace.stage("sparse").chunks), 0)
        finally:
            os.killpg(stopped.pid, signal.SIGCONT)
        self.cluster.until(lambda: not pipeline.ask(self.ASKED[0]).absent, "the worker that was stopped")
        asked, wrong, stop = [], [], threading.Event()

        def ask():
            while not stop.is_set():
                found = pipeline.ask(self.ASKED[0])
                asked.append(found)
                if found.absent or not np.array_equal(found.stage("dense").chunks, expected):
                    wrong.append(found.absent)

        expected = self.alone.ask(self.ASKED[0]).stage("dense").chunks
        asker = threading.Thread(target=ask)
        asker.start()
        self.cluster.start_worker()
        self.cluster.until(lambda: len({own[0] for own in shards.placement}) == 3, "the third worker's share")
        before = len(asked)
        self.cluster.until(lambda: len(asked) > before + 5, "answers after that")
        stop.set()
        asker.join()
        self.assertEqual(wrong, [], "nobody waits and nothing is left out while segments move")
        self.assert_same(pipeline)

    def test_what_assistants_ask_is_asked_on_the_workers_that_built_it(self):
        self.crew()
        workspace, _ = make_workspace()
        told = {
            "DOPPIO_STORE": self.url, "DOPPIO_ARTIFACTS": self.folder / "site" / "artifacts",
            "DOPPIO_DASK": self.cluster.address, "DOPPIO_COPIES": 1, "DOPPIO_SEGMENT_CHUNKS": 3,
        }  # fmt: skip
        with override_settings(**told):
            encoding = "doppio.core.branches.dense.making.made_of"
            # What this class has in the store belongs to no record.
            spared = mock.patch.object(Builder, "forget", lambda *_: 0)
            with spared, mock.patch(encoding, side_effect=AssertionError("encoded here")):
                saved, trial = measured(workspace)
            self.addCleanup(lambda client: client.close(), builds.crew().client())
            recipe_of = core_recipe(saved)
            mine, theirs = open_pipeline(workspace, recipe_of), open_pipeline(workspace, recipe_of, spread=True)
            self.assertIsInstance(theirs.branches["sparse"].index, SpreadSparse)
            for question in self.ASKED:
                one, two = mine.ask(question).to_json(), theirs.ask(question).to_json()
                self.assertEqual([stage["scores"] for stage in one["stages"]], [s["scores"] for s in two["stages"]])
            # Where nobody answers this machine opens what the workers had.
            nobody = override_settings(DOPPIO_DASK="127.0.0.1:9")
            spread = mock.patch.object(opened, "served_pipelines", opened.OpenPipelines(spread=True))
            with nobody, spread, mock.patch("doppio.machines.crew.CONNECT", 0.5):
                found = opened.to_be_asked(workspace, recipe_of)
            self.assertNotIsInstance(found.branches["sparse"].index, SpreadSparse)
        self.assertEqual(trial.answerable, 3)

    def test_a_copy_answers_for_a_worker_that_died_and_nobody_at_all_is_told(self):
        crew = self.crew()
        pipeline, _ = self.opened(crew, copies=2, late=0.2, last=30.0)
        self.assert_same(pipeline)
        with mock.patch.object(DaskShards, "look", lambda _: False):
            self.cluster.end(self.cluster.workers.pop())
            self.assert_same(pipeline)
        for process in self.cluster.workers:
            self.cluster.end(process)
        self.cluster.workers.clear()
        with self.assertRaises(NobodyAnswers):
            pipeline.ask(self.ASKED[0])
        with self.assertRaisesRegex(NobodyAnswers, "no worker is connected"):
            self.cluster.until(lambda: not crew.client().nthreads(), "the end of all workers")
            self.opened(crew)
        self.cluster.start_worker()
        self.cluster.until(lambda: self.answers(pipeline), "a new worker")
        self.assert_same(pipeline)

    def answers(self, pipeline):
        try:
            return not pipeline.ask(self.ASKED[0]).absent
        except NobodyAnswers:
            return False


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


class Beginning(unittest.TestCase):
    def test_a_worker_that_cannot_begin_says_what_was_wrong_to_all_who_want_something_of_it(self):
        self.enterContext(mock.patch.object(here, "_here", []))
        self.enterContext(mock.patch.object(here, "_wrong", ["?"]))
        with mock.patch.dict(os.environ, DOPPIO_CACHE_GB="lots"), self.assertRaises(ValueError):
            worker.dask_setup(None)
        with self.assertRaisesRegex(DoppioError, "^a worker on .* cannot begin: DOPPIO_CACHE_GB: 'lots' is not"):
            here.here()


def _not_here(*_):
    raise AssertionError("asked here")


class Placing(unittest.TestCase):
    @settings(max_examples=200)
    @given(st.data())
    def test_every_segment_stands_on_so_many_machines_and_loads_are_even(self, data):
        machines = [f"m{number}" for number in range(data.draw(st.integers(1, 6)))]
        sizes = data.draw(st.lists(st.integers(1, 100), min_size=1, max_size=20))
        copies = data.draw(st.integers(1, 3))
        found = placed(machines, sizes, copies)
        for holders in found:
            self.assertEqual(len(set(holders)), min(copies, len(machines)))
        load = {name: sum(s for s, own in zip(sizes, found, strict=True) if name in own) for name in machines}
        # The largest first leaves at most one segment between the fullest and the emptiest.
        self.assertLessEqual(max(load.values()) - min(load.values()), max(sizes))
        self.assertEqual(placed(machines, sizes, copies, found), found, "what lies evenly stays")
        groups = groups_of(found, range(len(sizes)))
        self.assertEqual(sorted(place for own in groups.values() for place in own), list(range(len(sizes))))
        gone = frozenset(machines[:1])
        self.assertNotIn(machines[0], groups_of(found, range(len(sizes)), gone))
        left = groups_of(found, range(len(sizes)), gone, at_last=True)
        self.assertEqual(sorted(place for own in left.values() for place in own), list(range(len(sizes))))
        self.assertTrue(all(found[place] == (machines[0],) for place in left.get(machines[0], ())))

    def test_a_machine_that_comes_takes_its_share_and_the_others_keep_theirs(self):
        sizes = [10] * 12
        before = placed(["a", "b"], sizes)
        after = placed(["a", "b", "c"], sizes, 1, before)
        moved = sum(one != other for one, other in zip(before, after, strict=True))
        self.assertEqual(sorted(own[0] for own in after), ["a"] * 4 + ["b"] * 4 + ["c"] * 4)
        self.assertEqual(moved, 4)
        back = placed(["a", "c"], sizes, 1, after)
        self.assertTrue(
            all(one == other for one, other in zip(after, back, strict=True) if other[0] == "c" and one[0] == "c")
        )
        self.assertEqual(placed([], sizes), ((),) * 12)


if __name__ == "__main__":
    unittest.main()
