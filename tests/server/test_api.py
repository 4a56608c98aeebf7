import json

from django.db import connection
from django.test import TestCase
from django.test.utils import CaptureQueriesContext
from jsonschema import Draft4Validator

from doppio.core.measure.ledger import CAUSES
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

    def test_every_answer_has_the_shape_that_the_schema_tells(self):
        schema = self.client.get("/api/schema").json()
        question = self.workspace.questions.first().pk
        document = self.workspace.documents.first().pk
        tails = {
            "documents": {},
            "documents/{document}": {"document": document},
            "documents/{document}/answers": {"document": document},
            "line": {},
            "questions": {},
            "questions/{question}": {"question": question},
            "stages/chunks": {},
            "stages/indexes": {},
            "trials": {},
            "recipes": {},
            "jobs": {},
            "mix": {},
        }
        for tail, places in tails.items():
            with self.subTest(tail):
                operation = schema["paths"]["/api/workspaces/{workspace}/" + tail]["get"]
                shape = operation["responses"]["200"]["content"]["application/json"]["schema"]
                body = self.get(tail.format(**places))
                problems = list(Draft4Validator({**_plain(shape), "components": _plain(schema["components"])})
                                .iter_errors(body))  # fmt: skip
                self.assertEqual([problem.message for problem in problems], [])

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
        terms = [chunk["text"][r["start"] : r["end"]] for chunk in asked["chunks"] for r in chunk["terms"]]
        self.assertIn("E-417", terms)

    def test_shares_of_terms_add_up_to_the_sparse_score(self):
        rows = {row["identity"]: row for row in self.get("questions")}
        asked = self.get(f"questions/{rows['q1']['id']}")
        sparse = next(stage for stage in asked["trace"]["stages"] if stage["stage"] == "sparse")
        scores = dict(zip(sparse["chunks"], sparse["scores"], strict=True))
        for row in asked["explained"]:
            total = sum(term["share"] for term in row["terms"])
            self.assertAlmostEqual(total, scores.get(row["chunk"], 0), places=3)

    def test_a_typed_question_runs_live_and_is_kept(self):
        asked = self.post("ask", {"text": "muzzle for a dog"})
        self.assertIsNone(asked["question"])
        first = next(stage for stage in asked["trace"]["stages"] if stage["stage"] == "context")["chunks"][0]
        self.assertEqual(next(c for c in asked["chunks"] if c["number"] == first)["title"], "Dogs")
        self.assertEqual(self.workspace.asked.get().text, "muzzle for a dog")

    def test_an_empty_question_and_unknown_numbers_are_refused(self):
        self.post("ask", {"text": ""}, 400)
        self.post("ask", {"text": "x", "recipe": 99_999}, 404)
        self.get("questions/99999", 404)
        detail = self.post("matches", {"text": "dog", "chunk": 5000}, 400)["detail"]
        self.assertIn("chunk: 5000 is not between 0 and", detail)

    def test_matches_of_the_late_interaction(self):
        matches = self.post("matches", {"text": "dog muzzle", "chunk": 0})
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
        mix = self.get("mix")
        trial = self.get("trials")[0]["stages"]
        k = mix["k"]
        self.assertEqual(mix["branches"], ["sparse", "dense"])
        self.assertAlmostEqual(mix["points"][-1]["ranks"], trial["dense"][f"recall@{k}"])
        self.assertAlmostEqual(mix["points"][0]["ranks"], trial["sparse"][f"recall@{k}"])

    def test_the_number_of_queries_does_not_grow_with_the_questions(self):
        def count(tail):
            with CaptureQueriesContext(
                connection,
            ) as queries:
                self.get(tail)
            return len(queries)

        before = {tail: count(tail) for tail in ("questions", "documents", "mix", "trials")}
        extra = self.workspace.questions.first()
        for number in range(20):
            extra.pk, extra.identity, extra.position = None, f"extra {number}", 100 + number
            extra.save()
        for tail, queries in before.items():
            self.assertLessEqual(count(tail), queries, tail)


class Loading(TestCase):
    def test_loading_the_same_again_keeps_every_record(self):
        workspace, _ = make_workspace()
        from doppio.library.services import load_documents
        from doppio.measuring.services import load_questions

        before = set(workspace.documents.values_list("pk", flat=True))
        self.assertEqual(load_documents(workspace, documents())["kept"], 3)
        self.assertFalse(load_questions(workspace, labelled()))
        self.assertEqual(set(workspace.documents.values_list("pk", flat=True)), before)

    def test_a_removed_document_takes_its_chunks_along_and_the_trial_is_no_longer_current(self):
        workspace, user = make_workspace()
        measured(workspace)
        from doppio.library.services import load_documents

        self.assertEqual(load_documents(workspace, documents()[:2])["removed"], 1)
        self.assertEqual(workspace.chunkings.count(), 0)
        self.client.force_login(user)
        self.assertIsNone(self.client.get(f"/api/workspaces/{workspace.pk}/line").json()["trial"])


def _plain(schema):
    """OpenAPI's `nullable` and its paths in the terms of JSON schema."""
    if isinstance(schema, list):
        return [_plain(part) for part in schema]
    if not isinstance(schema, dict):
        return schema
    out = {key: _plain(value) for key, value in schema.items() if key != "nullable"}
    return {"anyOf": [out, {"type": "null"}]} if schema.get("nullable") else out
