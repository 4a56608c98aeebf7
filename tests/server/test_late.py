"""A branch of token vectors through the API: its figures, what its tokens met, a survey of its codes."""

from django.test import TestCase

from doppio.core.progress import Silent
from doppio.stages.dense.measured import survey_recipe
from tests.server.workspace import make_workspace, measured

BRANCHES = [
    {"id": "words", "kind": "bm25"},
    {"id": "tokens", "kind": "late-interaction", "codes": "2"},
    {"id": "meaning", "kind": "vector"},
]
DOG = "Does my dog need a muzzle?"


class LateBranch(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.workspace, cls.user = make_workspace()
        cls.recipe, cls.trial = measured(cls.workspace, branches=BRANCHES, rerank=None)

    def setUp(self):
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}/stages"

    def test_its_index_is_told_in_figures_and_it_says_what_it_can(self):
        told = self.client.get(f"{self.at}/dense/index?branch=tokens").json()
        self.assertIsNone(told["facts"])
        self.assertEqual((told["surveys"], told["by_token"], told["branches"]), (True, True, ["tokens", "meaning"]))
        figures = {row["what"].split(",")[0]: row for row in told["figures"]}
        self.assertGreater(figures["vectors of tokens"]["value"], told["chunks"])
        self.assertEqual(figures["of them"]["unit"], "bytes")
        self.assertEqual(figures["of codes"]["unit"], "bytes")
        other = self.client.get(f"{self.at}/dense/index?branch=meaning").json()
        self.assertEqual((other["figures"], other["by_token"]), ([], False))
        self.assertIsNotNone(other["facts"])

    def test_tokens_of_the_question_are_matched_with_those_of_a_passage(self):
        asked = self.client.post(f"/api/workspaces/{self.workspace.pk}/ask", {"text": DOG}, "application/json").json()
        stage = next(row for row in asked["trace"]["stages"] if row["stage"] == "tokens")
        best = stage["chunks"][0]
        passage = next(chunk["text"] for chunk in asked["chunks"] if chunk["number"] == best)
        body = {"text": DOG, "chunk": best, "branch": "tokens"}
        matches = self.client.post(f"{self.at}/reranked/matches", body, "application/json").json()
        self.assertIn("muzzle", {passage[row["start"] : row["end"]].lower() for row in matches})
        score = sum(row["weight"] * row["cosine"] for row in matches)
        self.assertAlmostEqual(score, stage["scores"][0], places=2)
        for branch in ("meaning", "none"):
            answer = self.client.post(f"{self.at}/reranked/matches", {**body, "branch": branch}, "application/json")
            self.assertEqual(answer.status_code, 400)
            self.assertIn(f"'{branch}' is no branch of this recipe that matches tokens", answer.json()["detail"])

    def test_codes_are_measured_beside_comparing_all_and_each_branch_has_its_own(self):
        kept = survey_recipe(self.recipe, Silent(), "tokens")
        told = self.client.get(f"{self.at}/dense/survey?branch=tokens").json()
        self.assertEqual(len(told["points"]), len(kept.points))
        self.assertEqual((told["points"][0]["title"], told["points"][0]["recall"]), ("every vector compared", 1.0))
        self.assertEqual({row["structure"]["codes"] for row in told["points"]}, {"none", "8", "2", "1"})
        self.assertEqual(self.client.get(f"{self.at}/dense/survey?branch=meaning").json()["points"], [])
        survey_recipe(self.recipe, Silent(), "meaning")
        of_vectors = self.client.get(f"{self.at}/dense/survey?branch=meaning").json()["points"]
        self.assertEqual({row["title"] for row in of_vectors}, {""})
        self.assertEqual(of_vectors[0]["structure"], {"kind": "exact"})
