"""What the assistant gets: pieces with their citations, the whole as it is written, and what widening adds."""

from django.test import TestCase

from doppio.library.models import Document
from tests.server.workspace import make_workspace, measured


class Handed(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Handed")
        select = {"k": 3, "budget_tokens": 900, "template": "<{number}|{title}|{lines}>\n{text}"}
        cls.plain, _ = measured(cls.space, rerank=None, select=select)
        cls.wide, _ = measured(cls.space, rerank=None, select={**select, "widening": {"kind": "whole-document"},
                                                               "order": {"kind": "as-in-document"}})  # fmt: skip

    def setUp(self):
        self.client.force_login(self.user)

    def asked(self, recipe, question):
        answer = self.client.get(f"/api/workspaces/{self.space.pk}/questions/{question}?recipe={recipe.pk}")
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def test_pieces_are_stretches_of_their_documents_and_cite_them(self):
        texts = dict(Document.objects.values_list("pk", "text"))
        for recipe in (self.plain, self.wide):
            for question in self.space.questions.all():
                body = self.asked(recipe, question.pk)
                context = body["trace"]["stages"][-1]
                pieces = body["handed"]["pieces"]
                brought = [chunk for piece in pieces for chunk in piece["chunks"]]
                kept = [chunk for chunk, on in zip(context["chunks"], context["kept"], strict=True) if on]
                self.assertEqual(sorted(brought), sorted(kept))
                self.assertEqual([piece["number"] for piece in pieces], list(range(1, len(pieces) + 1)))
                for piece in pieces:
                    text = texts[piece["document"]]
                    self.assertEqual(piece["text"], text[piece["start"] : piece["end"]])
                    self.assertEqual(piece["lines"][0], text[: piece["start"]].count("\n") + 1)
                    self.assertEqual(piece["lines"][1], text[: piece["end"]].count("\n") + 1)
                    for found in piece["found"]:
                        self.assertTrue(0 <= found["start"] < found["end"] <= len(piece["text"]))
                told = "\n\n".join(
                    f"<{piece['number']}|{piece['title']}|{'-'.join(map(str, dict.fromkeys(piece['lines'])))}>\n"
                    f"{piece['text']}".strip()
                    for piece in pieces
                )
                self.assertEqual(body["handed"]["written"], told)
                self.assertGreaterEqual(body["handed"]["tokens"], body["trace"]["tokens"] if pieces else 0)

    def test_widening_says_why_and_an_answer_beside_the_hit_counts(self):
        question = self.space.questions.filter(unanswerable=False).first()
        plain, wide = self.asked(self.plain, question.pk), self.asked(self.wide, question.pk)
        self.assertIsNone(plain["trace"]["stages"][-1]["ranges"])
        self.assertEqual({piece["widened"] for piece in plain["handed"]["pieces"]}, {""})
        self.assertIn("its whole document", {piece["widened"] for piece in wide["handed"]["pieces"]})
        if plain["cause"] == "delivered":
            self.assertEqual(wide["cause"], "delivered")
        self.assertEqual(any(piece["answers"] for piece in wide["handed"]["pieces"]), wide["in_play"]["context"])

    def test_an_answer_is_told_with_its_place_and_what_it_is_worth(self):
        select = {"k": 3, "budget_tokens": 900, "answer": {"kind": "sentences"}}
        answered, trial = measured(self.space, rerank=None, select=select)
        texts = dict(Document.objects.values_list("pk", "text"))
        for question in self.space.questions.all():
            body = self.asked(answered, question.pk)
            pieces = {piece["number"]: piece for piece in body["handed"]["pieces"]}
            self.assertTrue(body["trace"]["answer"]["sentences"])
            for said in body["trace"]["answer"]["sentences"]:
                piece = pieces[said["cites"][0]]
                self.assertEqual(texts[piece["document"]][said["start"] : said["end"]], said["text"])
                self.assertTrue(piece["start"] <= said["start"] < said["end"] <= piece["end"])
            self.assertEqual(body["handed"]["answer"] is None, question.unanswerable)
            self.assertIsNone(self.asked(self.plain, question.pk)["trace"]["answer"])
        told = {row["id"]: row for row in self.client.get(f"/api/workspaces/{self.space.pk}/trials").json()}
        self.assertEqual(told[trial.pk]["answers"]["answerable"], 3)
        self.assertEqual(told[trial.pk]["answers"]["unanswerable"], 1)
        self.assertGreater(told[trial.pk]["answers"]["f1"], 0.3)
