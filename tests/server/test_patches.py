"""Pages by patches over HTTP: imported, asked, shaded; kept lines of pages."""

import json
from unittest import mock

from doppio.core.formats.bounded import BoundedReader
from doppio.core.progress import Silent
from doppio.library import files
from doppio.library.intake import ADDED, take_file
from doppio.recipes.services import save_recipe
from doppio.trials.services import measure_recipe
from tests.core.corpus import recipe
from tests.core.made_files import make_pdf
from tests.core.test_patches import PAGES
from tests.server.committed import Committed
from tests.server.workspace import make_workspace

BRANCHES = [{"id": "sparse", "kind": "bm25"}, {"id": "pages", "kind": "patches"}]
CHUNKING = {"rule": "pages", "unit": "tokens", "size": 400}


class Patches(Committed):
    def setUp(self):
        self.workspace, user = make_workspace()
        self.client.force_login(user)
        self.root = f"/api/workspaces/{self.workspace.pk}/"
        with BoundedReader() as reader:
            for name in ("wind.pdf", "dogs.pdf"):
                taken = take_file(self.workspace, name, make_pdf(PAGES[name]), reader)
                self.assertEqual(taken.state, ADDED)

    def post(self, path, **body):
        return self.client.post(f"{self.root}{path}", json.dumps(body), content_type="application/json")

    def measured(self, **changes):
        body = {"chunking": CHUNKING, "branches": BRANCHES, "rerank": None, **changes}
        saved = save_recipe(self.workspace, recipe(**body).body)
        measure_recipe(saved, Silent())
        return saved

    def test_a_page_is_found_shown_and_shaded(self):
        self.measured(select={"k": 2, "budget_tokens": 300, "widening": {"kind": "page"}})
        asked = self.post("ask", text="a deposit for a muzzle").json()
        rows = next(one for one in asked["trace"]["stages"] if one["stage"] == "pages")
        chunk = next(one for one in asked["chunks"] if one["number"] == rows["chunks"][0])
        document = self.workspace.documents.get(name="dogs.pdf")
        self.assertEqual((chunk["document"], chunk["text"]), (document.pk, PAGES["dogs.pdf"][1][0]))
        (sheet,) = self.post("stages/dense/shaded", text="deposit", branch="pages", chunk=chunk["number"]).json()
        self.assertEqual((sheet["document"], sheet["page"], sheet["picture"]), (document.pk, 2, 0))
        (match,) = sheet["matches"]
        self.assertEqual((match["token"], len(match["cosines"])), ("deposit", len(sheet["places"])))
        self.assertEqual(max(match["cosines"]), match["cosines"][match["best"]])
        self.assertEqual(self.client.get(f"{self.root}documents/{document.pk}/pages/2").status_code, 200)
        stage = self.client.get(f"{self.root}stages/dense/index?branch=pages").json()
        self.assertTrue(stage["by_patch"])
        # Two documents of two pages; the other documents of the workspace have neither pages nor pictures.
        self.assertEqual(stage["figures"][0], {"value": 4.0, "what": "pages and pictures", "unit": ""})

    def test_what_does_not_look_at_patches_says_so(self):
        self.measured()
        said = self.post("stages/dense/shaded", text="deposit", branch="sparse", chunk=0)
        self.assertEqual(said.status_code, 400)
        self.assertIn("'sparse' is no branch of this recipe that looks at patches", said.json()["detail"])
        self.assertEqual(self.post("stages/dense/shaded", text="x", branch="pages", chunk=999).status_code, 400)

    def test_lines_of_pages_are_looked_for_once(self):
        self.measured()
        digest = self.workspace.documents.get(name="wind.pdf").file.digest
        self.assertEqual(len(list(files.pages_of(digest).glob("lines-*.json"))), 2)
        with mock.patch("doppio.library.pictures._Painter.lines", side_effect=AssertionError):
            self.measured(branches=[BRANCHES[0], {**BRANCHES[1], "rows": 30}])

    def test_the_text_of_a_page_is_told_with_where_it_stands(self):
        document = self.workspace.documents.get(name="wind.pdf")
        told = self.client.get(f"{self.root}documents/{document.pk}/pages/1/lines").json()
        texts = [document.text[line["start"] : line["end"]] for line in told["lines"]]
        self.assertEqual(texts, PAGES["wind.pdf"][0])
        self.assertLess(told["lines"][0]["place"][1], told["lines"][1]["place"][1])
        for page in (0, 3):
            said = self.client.get(f"{self.root}documents/{document.pk}/pages/{page}/lines")
            self.assertEqual(said.status_code, 400)
            self.assertIn(f"page {page} is no page of a PDF file", said.json()["detail"])
