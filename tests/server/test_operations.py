"""Every operation of the API, asked as the interface asks it; what it answers is what the schema tells."""

import json
import tempfile
from pathlib import Path
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.test import Client
from django.utils import timezone

from doppio.core.progress import Silent
from doppio.library.carrying import pack
from doppio.library.models import Event
from doppio.questions.models import AnswerSpan
from doppio.questions.writing import write_question
from doppio.recipes.services import put_in_force, save_recipe
from doppio.serving.models import Published, Served
from doppio.trials.services import measure_recipe
from tests.core.corpus import recipe
from tests.core.made_files import RED, inline_picture, make_pdf, make_picture
from tests.server.committed import Committed
from tests.server.told import mistakes, operations
from tests.server.workspace import make_workspace, measured

SCORER = "joint-english"
RANGE = {"chunking": {"rule": "fixed-window", "unit": "words", "size": 8}}
LABEL = {"start": 0, "end": 10}


class Operations(Committed):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.saved, _ = measured(self.workspace)
        self.client.force_login(self.user)
        self.left = operations()

    def call(self, asked: str, body: Any = None, query: str = "", **places: object) -> Any:
        method, path = self.left.pop(asked)
        address = path.format(workspace=self.workspace.pk, **places) + query
        given: dict[str, Any] = {}
        if isinstance(body, dict) and {"files", "file"} & set(body):
            given = {"data": body}
        elif body is not None:
            given = {"data": json.dumps(body), "content_type": "application/json"}
        response = getattr(self.client, method)(address, **given)
        self.assertLess(response.status_code, 300, f"{asked}: {response.getvalue()[:300]!r}")
        kind = response.headers.get("Content-Type", "")
        return response.json() if kind.startswith("application/json") else None

    def test_every_operation_answers_what_the_schema_tells(self):
        self.library()
        self.imports()
        self.recipes()
        self.questions()
        self.sweeps()
        self.stages()
        self.pools()
        self.serving()
        self.people()
        self.call("leave")
        self.assertEqual(self.left, {}, "operations that nothing here asks for")

    def library(self):
        self.call("session")
        self.call("workspaces")
        self.call("events")
        self.call("documents")
        document = self.workspace.documents.get(name="wind.md").pk
        self.call("document", document=document)
        self.call("documentView", document=document)
        self.call("correctOutline", {"start": 0, "action": "level", "value": 2}, document=document)

    def imports(self):
        self.call("lastImport")
        number = self.call("beginImport", {})["id"]
        drawn = f"<p>A ticket.</p>{inline_picture(make_picture(RED))}".encode()
        files = [("new.pdf", make_pdf([["1 Tickets", "A ticket costs 9 crowns."]])), ("drawn.html", drawn),
                 ("t.csv", b"id,text\n1,Ice\n")]  # fmt: skip
        body = {"files": [SimpleUploadedFile("x", data) for _, data in files], "names": [name for name, _ in files]}
        rows = self.call("stageFiles", body, brought_in=number)
        table = rows[2]["id"]
        self.call("fieldsSeen", brought_in=number, file=table)
        self.call("setFields", {"fields": {"matched": ["text"], "carried": [], "title": "text", "id": "id"}},
                  brought_in=number, file=table)  # fmt: skip
        self.call("startImport", {}, brought_in=number)
        job = self.call("jobs")[0]["id"]
        call_command("work", once=True)
        self.call("import", brought_in=number)
        self.call("cancelJob", {}, job=job)
        pages = self.workspace.documents.get(name__contains="new").pk
        self.call("pagePicture", document=pages, page=1)
        self.call("pageLines", document=pages, page=1)
        self.call("figure", document=self.workspace.documents.get(name="drawn.html").pk, number=1)
        asked = self.call("askByPicture", {"file": SimpleUploadedFile("cut.png", make_picture(RED))})["picture"]
        self.call("askedPicture", picture=asked)
        self.call("removeDocuments", {"documents": [pages]})
        call_command("work", once=True)

    def recipes(self):
        self.call("catalogue")
        self.call("encoders")
        self.call("recipes")
        body = recipe(**RANGE).body
        self.call("buildCost", {"body": body})
        self.call("saveRecipe", {"body": body, "note": "shorter"})
        self.call("putInForce", {}, recipe=self.saved.pk)
        self.call("startTrial", {"recipe": self.saved.pk})
        call_command("work", once=True)
        trials = self.call("trials")
        self.call("comparison")
        run = SimpleUploadedFile("a.run", b"q1 Q0 alarms.csv 1 2.0 x")
        number = self.call("addRun", {"file": run})["id"]
        self.call("measureRun", run=number)
        self.call("removeRun", run=number)
        self.call("trialReport", trial=trials[0]["id"])
        self.call("comparedQuestions", query=f"?first={trials[0]['id']}&second={trials[-1]['id']}")

    def questions(self):
        self.call("line")
        rows = self.call("questions")
        self.call("question", question=rows[0]["id"])
        self.call("ask", {"text": "When does the gondola stop?"})
        self.call("askedBefore")
        self.call("whyNot", query=f"?question={rows[0]['id']}")
        self.call("draft", {"body": self.saved.body})
        self.call("askDraft", {"body": self.saved.body, "question": rows[0]["id"]})
        span = AnswerSpan.objects.first()
        AnswerSpan.objects.filter(pk=span.pk).update(lost=True, quote="A dog rides", start=None, end=None)
        self.call("lostLabels")
        self.call("placeLabel", {"document": span.document_id, **LABEL}, label=span.pk)
        self.call("gradeLabel", {"grade": 2}, label=span.pk)
        self.call("removeLabel", label=span.pk)
        into = self.call("makeQuestionSet", {"name": "More"})["id"]
        written = self.call("writeQuestion", {"text": "When does it stop?", "set": into})["id"]
        self.call("giveLabel", {"document": span.document_id, **LABEL}, question=written)
        self.call("changeQuestion", {"tags": ["new"]}, question=written)
        self.call("removeQuestion", question=written)
        self.call("takeEventBack", event=Event.objects.get(kind="question removed").pk)
        self.call("questionSets")
        file = SimpleUploadedFile("q.csv", b"question,document,quote\nWho may ride?,dogs.html,A dog rides\n")
        self.call("importQuestions", {"file": file, "options": json.dumps({"set": into, "write": True})})
        self.call("exportQuestions", number=into, query="?form=qrels")
        self.call("changeQuestionSet", {"measured": False}, number=into)
        one = self.call("suggestions")[0]
        words = {name: one[name] for name in ("document", "rule", "text", "start", "end")}
        self.call("decideSuggestion", {**words, "words": one["text"], "set": into})
        self.call("openSuggestionAgain", {"document": one["document"], "text": one["text"]})
        self.call("questionCoverage")
        self.call("removeQuestionSet", number=into)
        call_command("work", once=True)

    def stages(self):
        document = self.workspace.documents.first().pk
        text = {"text": "Is E-417 a tension alarm?"}
        self.call("cutDocument", {"document": document, **RANGE})
        self.call("chunkFigures", RANGE)
        self.call("sparseStage")
        self.call("explain", {**text, "chunks": [0, 1]})
        self.call("addedTerms", chunk=0)
        self.call("pastTrials", question=self.workspace.questions.first().pk)
        self.call("analyse", text)
        self.call("readSynonyms", {"text": "cabin, gondola\n"})
        self.call("denseStage")
        self.call("startSurvey", {})
        self.call("startDepths", {})
        self.call("startFit", {})
        call_command("work", once=True)
        self.call("survey")
        self.call("neighbours", query="?chunk=0")
        self.call("vectorMap", query="?text=wind")
        self.call("closePairs", query="?above=0.6")
        self.call("mix")
        self.call("startFusionFit", {})
        self.call("fusionFit")
        self.call("floor")
        self.call("depths")
        self.call("fitted")
        self.call("matches", {**text, "chunk": 0})
        self.call("scorers")
        tried = {"scorer": SCORER, "question": text["text"]}
        self.call("tryScorer", {**tried, "passages": ["E-417 is an alarm.", "Dogs ride."]})
        self.call("restsOn", {**tried, "passage": "E-417 is an alarm. Dogs ride."})
        patched = save_recipe(self.workspace, recipe(branches=[{"id": "pages", "kind": "patches"}], rerank=None).body)
        measure_recipe(patched, Silent())
        self.call("shadedPages", {**text, "chunk": 0, "branch": "pages", "recipe": patched.pk})
        put_in_force(self.saved)

    def sweeps(self):
        self.call("axes")
        wish = {"recipe": self.saved.pk, "axes": ["select.k=1,2"], "figure": "mrr"}
        self.call("sweepOutlook", wish)
        number = self.call("startSweep", wish)["id"]
        self.call("goOnWithSweep", sweep=number)
        call_command("work", once=True)
        self.call("sweeps")
        self.assertTrue(self.call("sweep", sweep=number)["chosen"])
        self.call("sweptRecipe", query="?row=0", sweep=number)
        self.call("removeSweep", sweep=number)
        gate = self.call("makeGate", {"metric": "mrr", "least": 0.1})["id"]
        self.call("gates")
        self.call("lookAtGate", gate=gate)
        self.call("takeBaseline", gate=gate)
        self.call("removeGate", gate=gate)

    def pools(self):
        self.call("makePool", {"name": "First", "recipes": [self.saved.pk], "depth": 2})
        call_command("work", once=True)
        pool = self.call("pools")[0]["id"]
        item = self.call("toJudge", pool=pool)[0]["id"]
        self.call("judgePassage", {"grade": 1}, pool=pool, item=item)
        self.call("agreement", pool=pool)
        self.call("settlePassage", {"grade": 2}, pool=pool, item=item)
        self.call("takeJudgementBack", pool=pool, item=item)
        self.call("removePool", pool=pool)

    def serving(self):
        made = self.call("publish", {"name": "desk", "recipe": self.saved.pk})["id"]
        self.call("published")
        secret = self.call(
            "makeKey", {"name": "bot", "scopes": ["search", "answer", "read", "watch"]}, published=made
        )["secret"]
        self.call("putBeside", {"recipe": None, "use": ""}, published=made)
        self.call("keepQuestions", {"keep_days": 3, "redact": []}, published=made)
        asked = self.call("tryPublished", {"question": "When does the gondola stop?"}, published=made)
        self.call("sayOfAnswer", {"request": asked["request"], "thumb": 1}, published=made)
        self.call("servedFigures", published=made)
        self.call("questionsFromUse", published=made)
        published = Published.objects.get()
        Served.objects.bulk_create(
            Served(published=published, request=str(n), recipe=self.saved, kind="search", question=f"wind {n}",
                   at=timezone.now())
            for n in range(12)
        )  # fmt: skip
        for n in range(8):
            write_question(self.workspace, f"When does line {n} open?")
        self.call("strangers", published=made)
        self.call("takeQuestionsFromUse", {"requests": [asked["request"]]}, published=made)
        self.assistant(secret)
        other = save_recipe(self.workspace, recipe(select={"k": 1}).body)
        self.call("release", {"recipe": other.pk}, published=made)
        key = self.call("publishedOne", published=made)["keys"][0]["id"]
        self.call("takeKeyBack", published=made, key=key)
        self.call("takeDown", published=made)

    def assistant(self, secret: str):
        """What a key opens, by a client that nobody is signed in at."""
        mine, self.client = self.client, Client(headers={"Authorization": f"Bearer {secret}"})
        found = self.call("servedSearch", {"question": "When does it stop?", "trace": True}, name="desk")
        self.call("servedFeedback", {"request": found["request"], "thumb": -1, "question": "x"}, name="desk")
        self.call("servedHealth", name="desk")
        document = self.call("servedDocuments", name="desk")[0]["id"]
        self.call("servedDocument", name="desk", document=document)
        drawn = self.workspace.documents.get(name="drawn.html").pk
        self.call("servedFigure", name="desk", document=drawn, number=1)
        self.call("servedMetrics", name="desk")
        # The recipe hands passages on; what answers is asked in tests of its own.
        self.left.pop("servedAnswer")
        self.client = mine

    def people(self):
        self.call("workspace")
        self.call("exportWorkspace")
        self.call("copyWorkspace", {"name": "A copy"})
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "w.zip"
            pack(self.workspace, place)
            self.call("importWorkspace", {"file": SimpleUploadedFile("w.zip", place.read_bytes()), "name": "B"})
        self.call("renameWorkspace", {"name": "Cables"})
        self.call("members")
        member = self.call("inviteMember", {"username": "judge", "role": "judge"})["member"]["id"]
        self.call("changeMember", {"role": "editor"}, member=member)
        self.call("takeMemberOut", member=member)
        self.call("makeWorkspace", {"name": "Another"})
        self.call("setPassword", {"password": "cable and pylon", "present": "a long password"})
        self.call("removeWorkspace")
        self.call("bringWorkspaceBack")
        self.call("emptyWorkspace", {})

    def test_an_answer_of_another_shape_is_told(self):
        method, path = operations()["line"]
        response = self.client.get(path.format(workspace=self.workspace.pk))
        from tests.server.told import schema

        operation = schema()["paths"][path][method]
        self.assertEqual(mistakes(operation, response), [])
        response.content = json.dumps({**response.json(), "delivered": "many"}).encode()
        self.assertIn("delivered: 'many' is not", mistakes(operation, response)[0])
        response.status_code = 218
        self.assertIn("the schema names 200", mistakes(operation, response)[0])

    def test_a_saved_recipe_is_what_the_schema_tells_of_recipes(self):
        saved = save_recipe(self.workspace, recipe(rerank=None, select={"k": 3}).body)
        self.assertEqual(saved.body["select"]["rule"], "best-first")
        self.assertEqual(self.call("recipes")[0]["body"]["format"], "doppio-recipe/1")
