"""Stages as a whole, recipes of other shapes, and the mix."""

import contextlib
import json
from dataclasses import replace
from unittest import mock

import numpy as np
from django.db import connection, transaction
from django.test import TestCase
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from doppio.core.branches.sparse.weighting import VARIANTS
from doppio.core.build.builder import Builder
from doppio.core.build.texts import TEXTS, texts_of
from doppio.core.chunking.table import ChunkTable, CorpusTexts
from doppio.core.errors import ArtifactDamaged, DocumentError
from doppio.core.formats.documents import read_file
from doppio.core.fusion.reciprocal_rank import reciprocal_rank_fusion
from doppio.core.measure.relevance import relevance
from doppio.core.progress import Silent
from doppio.core.trace import Trace
from doppio.jobs.models import Job
from doppio.jobs.sweep import tidy
from doppio.library import texts
from doppio.library.corpus import core_documents, corpus_now, corpus_of, seen_corpora
from doppio.library.models import Section
from doppio.library.services import store_documents
from doppio.library.texts import KnownFacts, RecordedTexts, section_headings
from doppio.library.workspaces import marked
from doppio.questions.services import core_questions, positions
from doppio.recipes import written
from doppio.recipes.builds import builder, chunking_of, models, open_pipeline
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import OpenPipelines
from doppio.recipes.services import core_recipe, put_in_force, save_recipe
from doppio.recipes.tasks import compact_task
from doppio.recipes.written import queue_writing
from doppio.stages.fused.service import mix_curve
from doppio.stages.line.service import line
from doppio.trials.services import latest_trial, measure_recipe, start_trial
from tests.core.corpus import documents, recipe
from tests.server.workspace import load_documents, make_workspace, measured

SPARSE = {"id": "words", "kind": "bm25"}
DENSE = {"id": "meaning", "kind": "vector"}


class Records(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.workspace, cls.user = make_workspace()
        cls.recipe, cls.trial = measured(cls.workspace)

    def test_documents_come_back_from_records_as_they_went_in(self):
        self.assertEqual(core_documents(self.workspace), sorted(documents(), key=lambda d: d.id))

    def test_texts_that_the_database_cuts_out_are_those_of_the_documents(self):
        core = core_recipe(self.recipe)
        table = builder().table(corpus_of(self.workspace), core)
        self.assertEqual(chunking_of(self.workspace, core).count, len(table))
        read = RecordedTexts(corpus_now(self.workspace), table, "path")
        held = CorpusTexts(core_documents(self.workspace), table, "path")
        everything = list(reversed(range(len(table))))
        for name in ("texts", "hosts", "titles", "headings", "indexed"):
            self.assertEqual(getattr(read, name)(everything), getattr(held, name)(everything), name)

    def test_offsets_count_code_points_also_beyond_the_basic_plane_in_one_query(self):
        document = self.workspace.documents.order_by("name").first()
        document.text, document.digest = "🚡🚡 gondola 🏔 top", "of this text"
        document.save()
        one, zero = np.array([3]), np.zeros(1, np.int64)
        read = RecordedTexts(corpus_now(self.workspace), ChunkTable.flat(zero, one, one + 9, zero, zero), "none")
        with self.assertNumQueries(1):
            self.assertEqual(read.texts([0, 0]), ["gondola 🏔", "gondola 🏔"])
        document.text, document.digest = "another", "of another"
        document.save()
        with self.assertRaisesRegex(DocumentError, "have changed or were removed"):
            read.texts([0])
        document.delete()
        with self.assertRaisesRegex(DocumentError, "have changed or were removed"):
            read.texts([0])

    def test_texts_that_are_written_are_not_read_from_the_records_and_are_looked_at_all_the_same(self):
        core = core_recipe(self.recipe)
        keys = builder().keys(corpus_of(self.workspace), core)
        pipeline = open_pipeline(self.workspace, core)
        everything = list(reversed(range(len(pipeline.chunks))))
        ranges = [pipeline.chunks.start[everything].tolist(), (pipeline.chunks.end[everything] + 40).tolist()]
        unwritten = replace(pipeline.texts, written=None)
        asked = []
        real = texts._whole
        with mock.patch.object(texts, "_whole", lambda some, wanted: asked.append(wanted) or real(some, wanted)):
            self.assertEqual(pipeline.texts.texts(everything), unwritten.texts(everything))
            self.assertEqual(pipeline.texts.cited(everything, *ranges), unwritten.cited(everything, *ranges))
        self.assertEqual([bool(wanted) for wanted in asked], [False, True] * 2)
        # What is read of documents that were not shown before tells what they are as well.
        plain = [row for row in everything if not pipeline.texts.facts([row])[pipeline.texts.owners([row])[0]].pages]
        one, ends = plain[:1], [5]
        with mock.patch.object(texts, "known_facts", KnownFacts()):
            for _ in range(2):
                with self.assertNumQueries(1):
                    pipeline.texts.cited(one, [0], ends)
            for document, facts in pipeline.texts.facts(everything).items():
                told = {index: path for (_, index), path in section_headings([document]).items()}
                self.assertEqual(facts.paths, told)
        # Those that are not are written by the upkeep, which is queued where there are any.
        for part in builder().lists.read(keys.chunks).parts:
            builder().store.remove(TEXTS.kind, TEXTS.key(part.key))
        again = open_pipeline(self.workspace, core).texts
        self.assertEqual((again.written.of(0), again.texts(everything)), (None, unwritten.texts(everything)))
        with mock.patch.object(written, "queue_compaction") as queued:
            queue_writing()
            queued.assert_called_once_with()
            compact_task()
            queue_writing()
            queued.assert_called_once_with()
        again = open_pipeline(self.workspace, core).texts
        self.assertIsNotNone(again.written.of(0))
        self.assertEqual(again.texts(everything), unwritten.texts(everything))
        self.workspace.documents.filter(pk=pipeline.texts.corpus.documents[0]).update(digest="of another")
        with self.assertRaisesRegex(DocumentError, "have changed or were removed"):
            pipeline.texts.texts([0])
        # What is in no workspace any more is nowhere once it was tidied.
        tidy(timezone.now())
        self.assertEqual(written.forget_texts(None), 0)
        found = texts_of(builder().store, builder().open_list(keys.chunks))
        self.assertIsNone(found.of(0))

    def test_labels_come_back_as_they_went_in(self):
        from tests.server.workspace import labelled

        self.assertEqual(core_questions(self.workspace), labelled())

    def test_section_paths_take_one_query(self):
        numbers = list(self.workspace.documents.values_list("pk", flat=True))
        with self.assertNumQueries(1):
            paths = section_headings(numbers)
        self.assertEqual(len(paths), Section.objects.count())

    def test_traces_are_kept_whole_with_the_trial(self):
        for row in self.trial.rows.all():
            trace = Trace.from_json(row.trace)
            self.assertEqual(trace.question, row.question.text)
            self.assertEqual(trace.recipe, self.recipe.fingerprint)

    def test_a_corpus_that_was_read_stands_until_a_document_comes_changes_or_goes(self):
        def now():
            with CaptureQueriesContext(connection) as asked:
                found = seen_corpora.now(self.workspace)
            return found, sum('"library_document"' in query["sql"] for query in asked)

        seen_corpora.now(self.workspace)
        first, reads = now()
        self.assertEqual((first.key, reads), (corpus_of(self.workspace), 0))
        row = self.workspace.documents.order_by("name").first()
        stamps = set()
        for change in (
            lambda: self.workspace.documents.filter(pk=row.pk).update(digest="another"),
            lambda: self.workspace.documents.bulk_update([row], ["digest"]),
            lambda: row.delete(),
            lambda: load_documents(self.workspace, documents()),
        ):
            # What is rolled back leaves no trace, and its stamp is not given again.
            with contextlib.suppress(ZeroDivisionError), transaction.atomic():
                self.workspace.documents.update(digest="lost")
                stamps.add(seen_corpora._state(self.workspace))
                self.assertEqual(set(seen_corpora.now(self.workspace).digests), {"lost"})
                raise ZeroDivisionError
            change()
            stamps.add(seen_corpora._state(self.workspace))
            found, reads = now()
            self.assertEqual((found.key, reads), (corpus_of(self.workspace), 1))
            self.assertEqual(now()[1], 0)
        self.assertEqual(len(stamps), 8)

    def test_a_trial_that_ends_while_the_line_is_read_is_seen_or_said_to_run(self):
        marked(self.recipe.workspace)
        job = start_trial(self.recipe, self.user)

        def ends_meanwhile(recipe):
            before = latest_trial(recipe)
            measure_recipe(recipe, Silent())
            Job.objects.filter(pk=job.pk).update(state=Job.DONE)
            return before

        with mock.patch("doppio.stages.line.service.latest_trial", ends_meanwhile):
            told = line(self.workspace, self.recipe)
        # Neither would leave a page waiting for good.
        self.assertEqual((told["trial"], told["job"]["state"]), (None, Job.QUEUED))


class Mix(TestCase):
    def test_every_point_is_the_recall_of_that_fusion(self):
        workspace, _ = make_workspace()
        saved, trial = measured(workspace)
        pipeline = open_pipeline(workspace, core_recipe(saved))
        table, where = pipeline.chunks, positions(pipeline)
        rows = [row for row in trial.rows.select_related("question").order_by("pk") if row.question.spans.exists()]
        questions = {question.text: question for question in core_questions(workspace)}
        traces = [Trace.from_json(row.trace) for row in rows]
        relevances = [relevance(table, where, questions[row.question.text]) for row in rows]
        fusion = core_recipe(saved).fusion
        curves = mix_curve(traces, relevances, ["sparse", "dense"], fusion, k=2, least=pipeline.least)
        self.assertEqual([curve["method"] for curve in curves], ["reciprocal-rank", "scaled-scores"])
        points = curves[0]["points"]
        for point in points[1:-1]:
            recalls = []
            for trace, relevant in zip(traces, relevances, strict=True):
                rankings = [trace.stage(name).chunks for name in ("sparse", "dense")]
                fused = reciprocal_rank_fusion(rankings, weights=[1 - point["second"], point["second"]])
                first = set(fused.chunks[:2].tolist())
                recalls.append(np.mean([bool(first & set(chunks.tolist())) for chunks in relevant.chunks]))
            self.assertAlmostEqual(point["recall"], float(np.mean(recalls)))
        own = mix_curve(traces, relevances, ["sparse", "dense"], {"method": "scaled-from-least"}, k=2,
                        least=pipeline.least)  # fmt: skip
        self.assertEqual(own[-1]["method"], "scaled-from-least")
        alone = mix_curve(traces[:1], relevances[:1], ["sparse", "dense"], fusion, k=2, least=pipeline.least)
        self.assertIsNotNone(alone[1]["points"][10]["rank"])
        self.assertIsNone(points[10]["rank"])


class OtherShapes(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.workspace, cls.user = make_workspace()

    def setUp(self):
        self.client.force_login(self.user)

    def get(self, tail, expected=200):
        response = self.client.get(f"/api/workspaces/{self.workspace.pk}/{tail}")
        self.assertEqual(response.status_code, expected, response.content)
        return response.json()

    def post(self, tail, body, expected=200):
        response = self.client.post(
            f"/api/workspaces/{self.workspace.pk}/{tail}", json.dumps(body), content_type="application/json"
        )
        self.assertEqual(response.status_code, expected, response.content)
        return response.json()

    def test_branches_with_other_names_and_one_branch_alone(self):
        for branches in ([SPARSE], [DENSE], [DENSE, SPARSE]):
            measured(self.workspace, branches=branches, rerank=None)
            line = self.get("line")
            kinds = [stage["kind"] for stage in line["stages"]]
            expected = ["sparse" if branch["kind"] == "bm25" else "dense" for branch in branches]
            self.assertEqual(kinds, ["documents", "chunks", *expected, "fused", "context"])
            self.assertIsNotNone(line["delivered"])
            asked = self.get(f"questions/{self.workspace.questions.first().pk}")
            self.assertEqual(len(asked["trace"]["stages"]), len(branches) + 2)
            self.assertEqual([asked["kinds"][stage["stage"]] for stage in asked["trace"]["stages"]], kinds[2:])
            self.assertEqual(len(self.get("stages/fused/mix")["curves"]), 2 if len(branches) == 2 else 0)
            self.assertEqual(self.get("stages/sparse/index")["facts"] is not None, SPARSE in branches)
            self.assertEqual(self.get("stages/dense/index")["facts"] is not None, DENSE in branches)
            told = self.client.post(
                f"/api/workspaces/{self.workspace.pk}/stages/sparse/explained",
                {"text": "dog", "chunks": [0]},
                content_type="application/json",
            )
            self.assertEqual(bool(told.json()), SPARSE in branches)

    def test_five_branches_two_of_them_sparse_are_each_shown_as_what_they_are(self):
        branches = [
            {**SPARSE, "id": "stems"},
            {**SPARSE, "id": "plain-words", "analysis": {"stem": False}, "variant": "tf-idf"},
            {**DENSE, "id": "near"},
            {**DENSE, "id": "fused-not", "structure": {"kind": "int8"}},
            {**DENSE, "id": "sparse-not", "metric": "euclidean"},
        ]
        families = ["sparse", "sparse", "dense", "dense", "dense"]
        measured(self.workspace, branches=branches, rerank=None)
        stages = self.get("line")["stages"]
        self.assertEqual([stage["kind"] for stage in stages], ["documents", "chunks", *families, "fused", "context"])
        asked = self.get(f"questions/{self.workspace.questions.first().pk}")
        found = [stage["family"] for stage in asked["trace"]["stages"] if stage["kind"] == "branch"]
        self.assertEqual(found, families)
        fused = asked["trace"]["stages"][5]
        self.assertEqual({len(row) for row in fused["branch_ranks"]}, {5})
        terms = {}
        for identity in ("stems", "plain-words"):
            index = self.get(f"stages/sparse/index?branch={identity}")
            self.assertEqual((index["branches"], index["branch"]), (["stems", "plain-words"], identity))
            terms[identity] = index["facts"]["terms"]
        self.assertLess(terms["stems"], terms["plain-words"])
        self.assertEqual(self.get("stages/sparse/index")["branch"], "stems")
        for identity, measure in (("near", "cosine"), ("sparse-not", "distance")):
            self.assertIn(measure, self.get(f"stages/dense/index?branch={identity}")["facts"]["measure"])
        self.assertIn("is no dense branch", self.get("stages/dense/index?branch=stems", 400)["detail"])
        chunk = fused["chunks"][0]
        shares = [
            self.post("stages/sparse/explained", {"text": "dogs", "chunks": [chunk], "branch": identity})[0]
            for identity in ("stems", "plain-words")
        ]
        self.assertEqual([share["chunk"] for share in shares], [chunk, chunk])

    def test_every_variant_is_a_sparse_branch_whatever_its_score_is_called(self):
        for variant in VARIANTS:
            saved, _ = measured(self.workspace, branches=[{**SPARSE, "id": "words", "variant": variant}], rerank=None)
            trial = next(row for row in self.get("trials") if row["recipe"]["id"] == saved.pk)
            self.assertEqual(trial["kinds"]["words"], "sparse")
            self.assertEqual(self.get(f"questions/{self.workspace.questions.first().pk}")["kinds"]["words"], "sparse")

    def test_figures_of_an_index_are_those_of_the_recipes_own(self):
        alone = {**SPARSE, "analysis": {"stem": False}}
        first, _ = measured(self.workspace, branches=[alone], rerank=None)
        before = self.get("stages/sparse/index")["facts"]
        line = next(stage for stage in self.get("line")["stages"] if stage["kind"] == "sparse")["facts"]
        for analysis in ({"stem": True}, {"keep_codes": False}, {"grams": {"from": 2, "to": 3}}):
            measured(self.workspace, branches=[{**SPARSE, "analysis": analysis}, DENSE], rerank=None)
        put_in_force(first)
        self.assertEqual(self.get("stages/sparse/index")["facts"], before)
        now = next(stage for stage in self.get("line")["stages"] if stage["kind"] == "sparse")["facts"]
        self.assertEqual(now, line)

    def test_before_the_first_trial_everything_says_so(self):
        save_recipe(self.workspace, recipe(chunking={"rule": "fixed-window", "unit": "words", "size": 11}).body)
        line = self.get("line")
        self.assertEqual((line["built"], line["trial"], line["delivered"]), (False, None, None))
        self.assertTrue(all(stage["in_play"] is None for stage in line["stages"]))
        self.assertTrue(all(row["cause"] is None for row in self.get("questions")))
        self.assertEqual(self.get("stages/fused/mix")["curves"], [])
        self.assertIn("run its trial", self.get("stages/sparse/index", 409)["detail"])

    def test_the_chunk_stage_counts_cut_answers(self):
        chunking = {"rule": "fixed-window", "unit": "words", "size": 8, "overlap": 0}
        stage = self.post("stages/chunks/figures", {"chunking": chunking})
        answers = stage["problems"]["answers"]
        self.assertEqual(sum(stage["spans"].values()), stage["spans"]["intact"] + len(answers))
        self.assertGreater(len(answers), 0)
        self.assertEqual(sum(row["chunks"] for row in stage["bins"]), stage["chunks"])
        for row in answers:
            self.assertTrue(0 < row["best"] < 1)
            self.assertGreaterEqual(row["pieces"], 2)

    def test_a_cut_that_is_only_looked_at_is_the_one_that_is_built(self):
        chunking = {"rule": "outline", "unit": "words", "size": 12, "overlap": 0, "context": "path"}
        measured(self.workspace, chunking=chunking)
        for document in self.workspace.documents.all():
            looked = self.post("stages/chunks/cut", {"document": document.pk, "chunking": chunking})
            built = self.get(f"documents/{document.pk}/answers")["chunks"]
            self.assertEqual(
                [(chunk["start"], chunk["end"], chunk["tokens"]) for chunk in looked["chunks"]],
                [(chunk["start"], chunk["end"], chunk["tokens"]) for chunk in built],
            )
            self.assertTrue(all(chunk["context"] > 0 for chunk in looked["chunks"]))

    def test_every_list_of_problems_leads_to_its_places(self):
        line = "The rope of line B is greased in spring and in autumn. "
        twin = "Muzzles can be borrowed at the ticket office against a deposit, as everybody here knows well. "
        for name, text in {"one.md": f"# One\n\n{twin}", "two.md": f"# Two\n\n{twin}", "long.md": line * 60}.items():
            store_documents(self.workspace, read_file(text.encode(), name))
        chunking = {"rule": "fixed-window", "unit": "words", "size": 290, "overlap": 0}
        found = self.post("stages/chunks/figures", {"chunking": chunking})
        texts = {row.pk: row.text for row in self.workspace.documents.all()}
        names = dict(self.workspace.documents.values_list("pk", "name"))
        problems = found["problems"]
        for kind in ("too_long", "too_short", "inside"):
            for row in problems[kind]:
                shown = " ".join(texts[row["document"]][row["start"] : row["end"]].split())
                self.assertTrue(shown.startswith(row["text"][:40]), kind)
        self.assertEqual({names[row["document"]] for row in problems["too_long"]}, {"long.md"})
        self.assertTrue(problems["inside"])
        self.assertTrue(all(row["tokens"] < found["short"] for row in problems["too_short"]))
        pairs = [{names[pair["one"]["document"]], names[pair["other"]["document"]]} for pair in problems["twins"]]
        self.assertIn({"one.md", "two.md"}, pairs)
        self.assertEqual(found["twins"], len(pairs))

    def test_sentence_vectors_of_all_documents_are_left_to_a_build(self):
        for number in range(21):
            store_documents(self.workspace, read_file(f"# Note {number}\n\nText {number}.".encode(), f"{number}.md"))
        chunking = {"rule": "topic-shift", "unit": "words", "size": 60, "signal": "vectors"}
        answer = self.post("stages/chunks/figures", {"chunking": chunking}, 400)
        self.assertIn("look at single documents, or compare terms", answer["detail"])
        document = self.workspace.documents.get(name="dogs.html").pk
        self.assertTrue(self.post("stages/chunks/cut", {"document": document, "chunking": chunking})["chunks"])

    def test_a_wrong_setting_is_named(self):
        answer = self.post(
            "stages/chunks/figures", {"chunking": {"rule": "outline", "unit": "words", "size": 1}}, 400
        )
        self.assertEqual(answer["detail"], "chunking.size: 1 is not between 8 and 100000")

    def test_tokens_past_the_limit_are_counted_and_placed(self):
        text = "# Long\n\n" + "The rope of line B is greased in spring. " * 60
        load_documents(self.workspace, [*documents(), read_file(text.encode(), "long.md")[0]])
        chunking = {"rule": "fixed-window", "unit": "words", "size": 400, "overlap": 0}
        row = self.workspace.documents.get(name="long.md")
        cut = self.post("stages/chunks/cut", {"document": row.pk, "chunking": chunking})
        chunk = cut["chunks"][0]
        self.assertEqual(models.encoder().token_offsets([row.text[: chunk["past"]]])[0].starts.size, cut["limit"])
        figures = self.post("stages/chunks/figures", {"chunking": chunking})
        self.assertEqual(figures["unread"], sum(max(c["tokens"] - cut["limit"], 0) for c in cut["chunks"]))
        self.assertEqual(figures["problems"]["too_long"][0]["document"], row.pk)

    def test_a_document_shows_its_chunks_and_answers(self):
        measured(self.workspace)
        document = self.workspace.documents.get(name="dogs.html")
        view = self.get(f"documents/{document.pk}/answers")
        text = self.get(f"documents/{document.pk}")["text"]
        answer = view["answers"][0]
        self.assertEqual(text[answer["start"] : answer["end"]], "A dog rides for 6 crowns a day")
        self.assertTrue(answer["cause"])
        covered = sorted((chunk["start"], chunk["end"]) for chunk in view["chunks"])
        self.assertEqual((covered[0][0], covered[-1][1]), (0, len(text)))

    def test_trials_show_the_newest_of_each_recipe(self):
        saved, first = measured(self.workspace)
        second = measure_recipe(saved, Silent())
        measured(self.workspace, select={"k": 1})
        trials = self.get("trials")
        numbers = [row["id"] for row in trials]
        self.assertIn(second.pk, numbers)
        self.assertNotIn(first.pk, numbers)
        self.assertEqual(len(numbers), 2)
        self.assertEqual(latest_trial(saved).pk, second.pk)

    def test_only_one_recipe_is_in_force(self):
        one, _ = measured(self.workspace)
        two, _ = measured(self.workspace, select={"k": 1})
        put_in_force(one)
        self.assertEqual(list(RecipeVersion.objects.filter(in_force=True)), [one])
        put_in_force(two)
        self.assertEqual(list(RecipeVersion.objects.filter(in_force=True)), [two])
        self.assertEqual((one.version, two.version), (1, 2))

    def test_a_damaged_index_is_named_and_the_next_trial_builds_it_again(self):
        saved, _ = measured(self.workspace, branches=[DENSE], rerank=None)
        core = core_recipe(saved)
        keys = builder().keys(corpus_of(self.workspace), core)
        segment = builder().lists.read(keys.chunks).parts[0].key
        key = keys.branches["meaning"].pieces["vectors"].key(segment)
        path = builder().store.folder_of("vectors", key) / "vectors.npy"
        sound = path.read_bytes()
        path.write_bytes(sound[:-4] + b"oops")
        with self.assertRaisesRegex(ArtifactDamaged, "vectors.npy: does not match its checksum"):
            OpenPipelines().get(self.workspace, core)
        measure_recipe(saved, Silent())
        self.assertEqual(path.read_bytes()[:-400], sound[:-400])
        self.assertEqual(
            OpenPipelines().get(self.workspace, core).branches["meaning"].index.count, chunk_count(saved)
        )

    def test_opening_reads_corpus_and_keys_once_and_keeps_only_its_own_askers_waiting(self):
        saved, _ = measured(self.workspace, branches=[DENSE], rerank=None)
        other, _ = measured(self.workspace, branches=[DENSE], rerank=None, select={"k": 1})
        core, opened = core_recipe(saved), OpenPipelines()
        seen_corpora._seen.clear()
        with (
            mock.patch.object(Builder, "keys", autospec=True, side_effect=Builder.keys) as keys,
            CaptureQueriesContext(connection) as asked,
        ):
            first = opened.get(self.workspace, core)
        self.assertEqual(keys.call_count, 1)
        self.assertEqual(len([q for q in asked if '"library_document"' in q["sql"] and "name" in q["sql"]]), 1)
        self.assertIs(opened.get(self.workspace, core), first)
        # One recipe is being opened, and takes long: another one that is open answers all the same.
        self.assertEqual(len(opened._opening), len({id(lock) for lock in opened._opening}))
        for lock in opened._opening:
            lock.acquire()
        self.assertIs(opened.get(self.workspace, core), first)
        for lock in opened._opening:
            lock.release()
        self.assertIsNot(opened.get(self.workspace, core_recipe(other)), first)

    def test_a_request_without_its_token_changes_nothing(self):
        from django.test import Client

        strict = Client(enforce_csrf_checks=True)
        strict.force_login(self.user)
        path = f"/api/workspaces/{self.workspace.pk}/recipes/save"
        answer = strict.post(path, json.dumps({"body": recipe().body}), content_type="application/json")
        self.assertEqual(answer.status_code, 403)
        self.assertEqual(self.workspace.recipes.count(), 0)


def chunk_count(saved: RecipeVersion) -> int:
    return chunking_of(saved.workspace, core_recipe(saved)).count
