"""Outlines corrected over the API, and what a passage carries to the context."""

import json

from doppio.core.formats.documents import read_file
from doppio.core.formats.records import Fields
from doppio.library.models import Document
from doppio.library.services import store_documents
from doppio.recipes.builds import chunks_of, is_built
from tests.core.corpus import documents, recipe
from tests.server.committed import Committed
from tests.server.workspace import load_documents, make_workspace, measured

TEXT = """# Rules

Intro.

## 1 Wind

Wind text. Gusts count.

## 3 Ice

Ice text.

## Note

Salt is never put on a rope.
"""


class Corrections(Committed):
    def setUp(self):
        self.workspace, user = make_workspace()
        self.client.force_login(user)
        self.put_in(TEXT)
        self.row = self.workspace.documents.get(name="rules.md")

    def put_in(self, text):
        store_documents(self.workspace, read_file(text.encode(), "rules.md"))

    def correct(self, words, action, value=None, expected=200, **more):
        start = Document.objects.get(pk=self.row.pk).text.index(words)
        answer = self.client.post(
            f"/api/workspaces/{self.workspace.pk}/documents/{self.row.pk}/outline",
            json.dumps({"start": start, "action": action, "value": value, **more}),
            content_type="application/json",
        )
        self.assertEqual(answer.status_code, expected, answer.content)
        return answer.json()

    def outline(self, body):
        return [(s["level"], f"{s['number']} {s['title']}".strip()) for s in body["sections"]]

    def test_a_jump_in_numbers_is_pointed_out(self):
        body = self.client.get(f"/api/workspaces/{self.workspace.pk}/documents/{self.row.pk}").json()
        doubtful = {section["title"]: section["doubts"] for section in body["sections"] if section["doubts"]}
        self.assertEqual(doubtful, {"Ice": ["number 3 follows 1"]})

    def test_title_level_join_split_and_undo(self):
        body = self.correct("3 Ice", "title", "2 Ice")
        self.assertEqual(self.outline(body)[2], (2, "2 Ice"))
        self.assertFalse(any(section["doubts"] for section in body["sections"]))
        body = self.correct("3 Ice", "level", 3)
        self.assertEqual(self.outline(body)[2], (3, "2 Ice"))
        body = self.correct("Note", "join")
        self.assertNotIn((2, "Note"), self.outline(body))
        body = self.correct("Wind text.", "split", 3, heading="Wind text.")
        self.assertIn((3, "Wind text."), self.outline(body))
        self.assertEqual(len(body["corrections"]), 4)
        body = self.correct("3 Ice", "undo")
        self.assertIn((2, "3 Ice"), self.outline(body))
        body = self.correct("Note", "undo")
        self.assertIn((2, "Note"), self.outline(body))
        self.assertEqual([row["action"] for row in body["corrections"]], ["split"])

    def test_mistakes_are_named_and_change_nothing(self):
        self.assertIn("is not a level between 1 and 9", self.correct("3 Ice", "level", 12, 400)["detail"])
        self.assertIn("no heading 'Ice text.' to level", self.correct("Ice text.", "level", 2, 400)["detail"])
        self.row.refresh_from_db()
        self.assertEqual(self.row.corrections, [])

    def test_corrections_survive_a_new_version_and_lost_ones_are_listed(self):
        self.correct("3 Ice", "title", "2 Ice")
        self.correct("Note", "drop")
        self.put_in(TEXT.replace("## Note", "## Remark").replace("Intro.", "A longer introduction."))
        body = self.client.get(f"/api/workspaces/{self.workspace.pk}/documents/{self.row.pk}").json()
        self.assertIn((2, "2 Ice"), self.outline(body))
        self.assertEqual(body["version"], 2)
        self.assertEqual([row["heading"] for row in body["versions"][0]["corrections_lost"]], ["Note"])
        self.put_in(TEXT)
        body = self.client.get(f"/api/workspaces/{self.workspace.pk}/documents/{self.row.pk}").json()
        self.assertTrue(body["sections"][3]["dropped"])

    def test_a_correction_makes_the_build_stale_and_the_next_one_leaves_the_section_out(self):
        saved, _ = measured(self.workspace)
        self.assertTrue(is_built(self.workspace, recipe()))
        self.correct("Note", "drop")
        self.assertFalse(is_built(self.workspace, recipe()))
        _, trial = measured(self.workspace)
        chunks = chunks_of(self.workspace, recipe(), self.row.pk)
        texts = [self.row.text[chunk["start"] : chunk["end"]] for chunk in chunks]
        self.assertTrue(texts)
        self.assertFalse(any("Salt" in text for text in texts))
        self.assertEqual(trial.recipe, saved)


class Carried(Committed):
    def ask(self, workspace, text):
        answer = self.client.post(
            f"/api/workspaces/{workspace.pk}/ask", json.dumps({"text": text}), content_type="application/json"
        )
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def test_a_passage_hands_on_fields_that_were_not_searched(self):
        workspace, user = make_workspace()
        self.client.force_login(user)
        rows = read_file(
            b"nr,fault,fix\n1,The zither of line Q hums,Tighten the seventh string\n", "faults.csv",
            Fields(("fault",), ("fix",), "", "nr"),
        )  # fmt: skip
        load_documents(workspace, [*documents(), *rows])
        measured(workspace, select={"k": 1, "budget_tokens": 200})
        found = self.ask(workspace, "Why does the zither hum?")
        number = found["trace"]["stages"][-1]["chunks"][0]
        chunk = next(chunk for chunk in found["chunks"] if chunk["number"] == number)
        self.assertEqual(chunk["carried"], {"fix": "Tighten the seventh string"})
        self.assertGreater(chunk["handed"], chunk["tokens"])
        self.assertEqual(found["trace"]["tokens"], chunk["handed"])
        # What is carried is not searched.
        sparse = self.ask(workspace, "seventh string")["trace"]["stages"][0]
        self.assertNotIn(number, sparse["chunks"])

    def test_hosts_are_handed_on_with_the_answers_inside(self):
        workspace, user = make_workspace()
        self.client.force_login(user)
        chunking = {"rule": "sentence-groups", "unit": "words", "size": 10, "host": {"size": 60}, "context": "path"}
        measured(workspace, chunking=chunking)
        question = workspace.questions.get(identity="q3")
        found = self.client.get(f"/api/workspaces/{workspace.pk}/questions/{question.pk}").json()
        relevant = [chunk for chunk in found["chunks"] if chunk["relevant"]]
        self.assertGreater(len(relevant), 1)
        for chunk in relevant:
            host = chunk["host"]
            answer = host["answers"][0]
            self.assertTrue(host["text"][answer["start"] : answer["end"]].startswith("It reopens when the mean"))
            self.assertIn(chunk["text"], host["text"])
        matches = self.client.post(
            f"/api/workspaces/{workspace.pk}/stages/reranked/matches",
            json.dumps({"text": question.text, "chunk": relevant[0]["number"]}), content_type="application/json",
        ).json()  # fmt: skip
        inside = [match for match in matches if match["start"] >= 0]
        self.assertTrue(inside)
        self.assertTrue(all(match["end"] <= len(relevant[0]["text"]) for match in inside))
