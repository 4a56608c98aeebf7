import json
from dataclasses import replace

from django.contrib.auth.models import User
from django.db import connection
from django.test import TestCase
from django.test.utils import CaptureQueriesContext

from doppio.core.errors import DocumentError
from doppio.core.kinds import families
from doppio.core.measure.ledger import CAUSES
from doppio.library.corpus import core_document
from doppio.library.services import store_documents
from doppio.library.texts import known_facts
from tests.core.corpus import documents, recipe
from tests.server.workspace import QUESTIONS, labelled, make_workspace, measured


class Api(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.workspace, cls.user = make_workspace()
        cls.recipe, cls.trial = measured(cls.workspace)

    def setUp(self):
        self.client.force_login(self.user)

    def get(self, tail, expected=200, **query):
        response = self.client.get(f"/api/workspaces/{self.workspace.pk}/{tail}", query)
        self.assertEqual(response.status_code, expected, response.content)
        return response.json()

    def post(self, tail, body, expected=200):
        path = f"/api/workspaces/{self.workspace.pk}/{tail}"
        response = self.client.post(path, json.dumps(body), content_type="application/json")
        self.assertEqual(response.status_code, expected, response.content)
        return response.json()

    def test_the_line_counts_what_is_in_play_and_adds_up(self):
        line = self.get("line")
        self.assertEqual([stage["stage"] for stage in line["stages"]],
                         ["documents", "chunks", "sparse", "dense", "fused", "reranked", "context"])  # fmt: skip
        by_stage = {stage["stage"]: stage for stage in line["stages"]}
        self.assertEqual(by_stage["documents"]["in_play"], 3)
        self.assertEqual(line["delivered"], by_stage["context"]["in_play"])
        lost = sum(by_stage[stage]["lost"] for stage in ("fused", "reranked", "context"))
        together = by_stage["fused"]["in_play"] + by_stage["fused"]["lost"]
        self.assertEqual(together - lost, line["delivered"])
        self.assertTrue(line["low"] <= line["delivered"] / 3 <= line["high"])

    def test_the_ledger_of_a_trial_holds_every_question_once(self):
        trial = self.get("trials")[0]
        self.assertEqual(set(trial["ledger"]), set(CAUSES))
        self.assertEqual(sum(trial["ledger"].values()), len(QUESTIONS))
        self.assertEqual(trial["ledger"]["wrongly filled"], 1)

    def test_long_lists_come_a_page_at_a_time_and_nothing_is_missing(self):
        for tail, by in (("documents", "name"), ("questions", "id")):
            whole, found, after = self.get(tail), [], ""
            while page := self.get(f"{tail}?limit=2" + (f"&after={after}" if after else "")):
                self.assertLessEqual(len(page), 2)
                found += page
                after = page[-1][by]
            self.assertEqual(found, whole)
            self.assertGreater(len(whole), 2)
        self.assertEqual(self.get("documents?limit=x&after=%00")[0], self.get("documents")[0])

    def test_a_pinned_question_tells_the_same_story_as_its_trial(self):
        rows = {row["identity"]: row for row in self.get("questions")}
        for identity in ("q1", "q2", "q3", "q4"):
            asked = self.get(f"questions/{rows[identity]['id']}")
            self.assertEqual(asked["cause"], rows[identity]["cause"])
            self.assertEqual(asked["ranks"], rows[identity]["ranks"])

    def test_chunks_of_a_trace_mark_answer_and_terms_in_their_text(self):
        rows = {row["identity"]: row for row in self.get("questions")}
        asked = self.get(f"questions/{rows['q1']['id']}")
        relevant = [chunk for chunk in asked["chunks"] if chunk["relevant"]]
        self.assertTrue(relevant)
        for chunk in relevant:
            marked = [chunk["text"][r["start"] : r["end"]] for r in chunk["answers"]]
            self.assertTrue(any("E-417" in piece or "tension" in piece for piece in marked))
        texts = {chunk["number"]: chunk["text"] for chunk in asked["chunks"]}
        rows = self.post("stages/sparse/explained", {"text": "What is E-417?", "chunks": list(texts)})
        self.assertEqual([row["chunk"] for row in rows], list(texts))
        terms = [texts[row["chunk"]][r["start"] : r["end"]] for row in rows for r in row["found"]]
        self.assertIn("E-417", terms)
        wrong = self.post("stages/sparse/explained", {"text": "x", "chunks": [0, 10_000]}, 400)
        self.assertIn("chunk: 10000 is not between 0 and", wrong["detail"])

    def test_shares_of_terms_add_up_to_the_sparse_score(self):
        rows = {row["identity"]: row for row in self.get("questions")}
        asked = self.get(f"questions/{rows['q1']['id']}")
        sparse = next(stage for stage in asked["trace"]["stages"] if stage["stage"] == "sparse")
        scores = dict(zip(sparse["chunks"], sparse["scores"], strict=True))
        for row in self.post("stages/sparse/explained", {"text": "What is E-417?", "chunks": list(scores)}):
            total = sum(term["share"] for term in row["terms"])
            self.assertAlmostEqual(total, scores.get(row["chunk"], 0), places=3)

    def test_a_typed_question_runs_live_and_is_kept(self):
        asked = self.post("ask", {"text": "muzzle for a dog"})
        self.assertIsNone(asked["question"])
        first = next(stage for stage in asked["trace"]["stages"] if stage["stage"] == "context")["chunks"][0]
        self.assertEqual(next(c for c in asked["chunks"] if c["number"] == first)["title"], "Dogs")
        self.assertEqual(self.workspace.asked.get().text, "muzzle for a dog")

    def test_a_question_about_documents_that_were_shown_before_takes_few_queries(self):
        for text in ("muzzle for a dog", "E-417"):
            self.post("ask", {"text": text})
        with CaptureQueriesContext(connection) as queries:
            asked = self.post("ask", {"text": "a dog and E-417"})
        told = [query["sql"][:90] for query in queries if "SAVEPOINT" not in query["sql"]]
        self.assertLessEqual(len(told), 10, told)
        self.assertTrue(all(chunk["title"] for chunk in asked["chunks"]))
        # A title that changes is the title of the next answer.
        row = self.workspace.documents.get(name="dogs.html")
        before = row.digest
        self.assertEqual(known_facts.of({row.pk: before})[0][row.pk].title, row.title)
        store_documents(self.workspace, [replace(core_document(row), title="Hounds")])
        row.refresh_from_db()
        self.assertEqual(known_facts.of({row.pk: row.digest})[0][row.pk].title, "Hounds")
        with self.assertRaisesRegex(DocumentError, "have changed"):
            known_facts.of({row.pk: "of neither"})

    def test_what_a_person_typed_is_told_once_the_latest_first_and_to_nobody_else(self):
        for text in ("first", "second", "first"):
            self.post("ask", {"text": text})
        self.assertEqual([row["text"] for row in self.get("ask")], ["first", "second"])
        other = User.objects.create_user("colleague")
        self.workspace.members.add(other)
        self.client.force_login(other)
        self.assertEqual(self.get("ask"), [])

    def test_an_empty_question_and_unknown_numbers_are_refused(self):
        self.post("ask", {"text": ""}, 400)
        self.post("ask", {"text": "x", "recipe": 99_999}, 404)
        self.get("questions/99999", 404)
        detail = self.post("stages/reranked/matches", {"text": "dog", "chunk": 5000}, 400)["detail"]
        self.assertIn("chunk: 5000 is not between 0 and", detail)

    def test_matches_of_the_late_interaction(self):
        matches = self.post("stages/reranked/matches", {"text": "dog muzzle", "chunk": 0})
        self.assertEqual(matches[0]["token"], "dog")
        self.assertAlmostEqual(sum(match["weight"] for match in matches), 1, places=5)

    def test_a_recipe_with_a_mistake_is_refused_and_changes_nothing(self):
        body = recipe().body
        body["branches"][1]["depth"] = 0
        detail = self.post("recipes/save", {"body": body}, 400)["detail"]
        self.assertEqual(detail, "branches[1].depth: 0 is not between 1 and 10000")
        self.assertEqual(len(self.get("recipes")), 1)

    def test_an_edited_recipe_becomes_the_next_version_in_force_and_is_queued(self):
        saved = self.post("recipes/save", {"body": recipe(select={"k": 1}).body, "note": "one is enough"}, 201)
        self.assertEqual((saved["recipe"]["version"], saved["recipe"]["in_force"]), (2, True))
        self.assertEqual(saved["job"]["state"], "queued")
        line = self.get("line")
        self.assertEqual(line["recipe"]["version"], 2)
        self.assertIsNone(line["trial"])
        again = self.post(f"recipes/{self.recipe.pk}/in-force", {})
        self.assertIsNone(again["job"])
        self.assertEqual(self.get("line")["trial"], self.trial.pk)

    def test_the_same_settings_are_not_saved_twice(self):
        saved = self.post("recipes/save", {"body": recipe().body}, 201)
        self.assertEqual(saved["recipe"]["id"], self.recipe.pk)

    def test_a_recipe_that_is_not_built_answers_409_with_what_to_do(self):
        other = recipe(chunking={"rule": "fixed-window", "unit": "words", "size": 9, "overlap": 0})
        self.post("recipes/save", {"body": other.body}, 201)
        self.assertIn("run its trial", self.post("ask", {"text": "dog"}, 409)["detail"])

    def test_the_mix_ends_at_the_branches_themselves(self):
        mix = self.get("stages/fused/mix")
        trial = self.get("trials")[0]["stages"]
        k = mix["k"]
        self.assertEqual(mix["branches"], ["sparse", "dense"])
        self.assertEqual(mix["families"], ["sparse", "dense"])
        for curve in mix["curves"]:
            self.assertAlmostEqual(curve["points"][-1]["recall"], trial["dense"][f"recall@{k}"])
            self.assertAlmostEqual(curve["points"][0]["recall"], trial["sparse"][f"recall@{k}"])

    def test_the_number_of_queries_does_not_grow_with_the_questions(self):
        def count(tail):
            with CaptureQueriesContext(
                connection,
            ) as queries:
                self.get(tail)
            return len(queries)

        before = {tail: count(tail) for tail in ("questions", "documents", "stages/fused/mix", "trials")}
        extra = self.workspace.questions.first()
        for number in range(20):
            extra.pk, extra.identity, extra.position = None, f"extra {number}", 100 + number
            extra.save()
        for tail, queries in before.items():
            self.assertLessEqual(count(tail), queries, tail)

    def test_the_catalogue_tells_every_kind_with_its_settings(self):
        found = self.client.get("/api/kinds").json()
        self.assertEqual(found["refused"], [])
        for name, family in families().items():
            told = found["families"][name]
            self.assertEqual([kind["name"] for kind in told["kinds"]], list(family.kinds))
            for kind in told["kinds"]:
                self.assertEqual(
                    [one["name"] for one in kind["settings"]], [s.name for s in family.get(kind["name"]).settings]
                )
        graph = next(kind for kind in found["families"]["structures"]["kinds"] if kind["name"] == "hnsw")
        self.assertEqual(
            [(one["name"], one["default"], one["built"]) for one in graph["settings"]],
            [("m", 16, True), ("ef_construction", 100, True), ("ef_search", 80, False), ("over_fetch", 2, False)],
        )
        self.client.logout()
        self.assertEqual(self.client.get("/api/kinds").status_code, 401)


class Loading(TestCase):
    def test_loading_the_same_again_keeps_every_record(self):
        workspace, _ = make_workspace()
        from doppio.questions.services import load_questions
        from tests.server.workspace import load_documents

        before = set(workspace.documents.values_list("pk", flat=True))
        self.assertEqual(load_documents(workspace, documents())["kept"], 3)
        self.assertFalse(load_questions(workspace, labelled()))
        self.assertEqual(set(workspace.documents.values_list("pk", flat=True)), before)

    def test_a_removed_document_takes_its_chunks_along_and_the_trial_is_no_longer_current(self):
        workspace, user = make_workspace()
        measured(workspace)
        from tests.server.workspace import load_documents

        self.assertEqual(load_documents(workspace, documents()[:2])["removed"], 1)
        self.client.force_login(user)
        self.assertIsNone(self.client.get(f"/api/workspaces/{workspace.pk}/line").json()["trial"])


class Robust(TestCase):
    """Whatever is sent, the answer is a sentence and never a traceback."""

    @classmethod
    def setUpTestData(cls):
        cls.workspace, cls.user = make_workspace()
        cls.recipe, _ = measured(cls.workspace)

    def setUp(self):
        self.client.force_login(self.user)
        self.root = f"/api/workspaces/{self.workspace.pk}/"

    def send(self, tail, body, raw=False):
        data = body if raw else json.dumps(body)
        return self.client.post(self.root + tail, data, content_type="application/json")

    def test_numbers_that_are_none(self):
        for tail in ("line", "questions", "stages/sparse/index", "stages/fused/mix"):
            answer = self.client.get(self.root + tail, {"recipe": "'; drop"})
            self.assertEqual(answer.status_code, 400, tail)
            self.assertIn("is not the number of a recipe", answer.json()["detail"])
        self.assertEqual(self.client.get(self.root + "stages/fused/mix", {"question": "x"}).status_code, 200)
        self.assertEqual(self.client.get(self.root + "line", {"recipe": "9" * 6}).status_code, 404)

    def test_questions_that_are_strange(self):
        for text in ("?", "the of and", "🚡" * 300, "E-417 " * 300, "<script>alert(1)</script>", "\u202e\u0301"):
            answer = self.send("ask", {"text": text})
            self.assertEqual(answer.status_code, 200, repr(text[:20]))
            self.assertEqual(answer.json()["trace"]["question"], text.strip())
        for text in ("", "   ", "x" * 2001, "a\u0000b", "\ud800", None, 5 * ["x"]):
            self.assertEqual(self.send("ask", {"text": text}).status_code, 400, repr(text)[:20])

    def test_bodies_that_are_no_json_objects(self):
        for raw in ("", "{", "[1]", "null", '"x"'):
            for tail in ("ask", "recipes/save", "stages/reranked/matches", "trials"):
                self.assertEqual(self.send(tail, raw, raw=True).status_code, 400, (tail, raw))

    def test_recipes_that_are_strange(self):
        for body in (None, [], "x", 7, {"format": 1}, {"branches": {}}, {"chunking": {"size": 1e400}}):
            self.assertEqual(self.send("recipes/save", {"body": body}).status_code, 400, repr(body))
        self.assertEqual(self.workspace.recipes.count(), 1)

    def test_a_damaged_chunk_table_is_told_and_never_replaced_by_an_empty_one(self):
        from doppio.core.progress import Silent
        from doppio.library.corpus import corpus_of
        from doppio.recipes.builds import builder
        from doppio.recipes.opened import pipelines
        from doppio.recipes.services import core_recipe
        from doppio.trials.services import measure_recipe

        core = core_recipe(self.recipe)
        keys = builder().keys(corpus_of(self.workspace), core)
        path = next(builder().store.root.glob(f"segment-{builder().lists.read(keys.chunks).parts[0].key}/start.npy"))
        sound = path.read_bytes()
        path.write_bytes(sound[:-1] + b"!")
        pipelines._open.clear()
        line = self.client.get(self.root + "line").json()
        self.assertEqual(line["stages"][1]["facts"], ["damaged on disk"])
        answer = self.send("ask", {"text": "dog"})
        self.assertEqual(answer.status_code, 409)
        self.assertIn("start.npy: does not match its checksum", answer.json()["detail"])
        measure_recipe(self.recipe, Silent())
        self.assertEqual(path.read_bytes(), sound)
        self.assertEqual(self.send("ask", {"text": "dog"}).status_code, 200)
