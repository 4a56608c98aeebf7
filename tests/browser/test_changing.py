"""What a person changes: recipes, documents, outlines, builds; each test has a corpus of its own."""

import tempfile
from pathlib import Path

from django.contrib.auth.models import User
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from doppio.core.progress import Silent
from doppio.library.models import Document, Workspace
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import pipelines
from doppio.recipes.services import core_recipe, put_in_force, save_recipe
from doppio.stages.reranked.service import depth_key
from doppio.trials.models import Survey
from doppio.trials.services import measure_recipe
from tests.browser.page import GALE, Page
from tests.browser.prepared import SMALL
from tests.core.corpus import ROOT
from tests.core.made_files import RED, make_picture


class Changing(Page):
    """Twelve documents and twenty questions, as they were, before every test."""

    prepared, fresh = SMALL, True

    def test_an_edited_recipe_is_refused_or_measured_and_the_levels_follow(self):
        self.open("/line/context")
        delivered = self.text(".delivered")
        self.click("button", "Edit recipe")
        field = self.one("#select\\.k")
        self.retype(field, "0")
        self.click("button", "Save as new version")
        self.see("select.k: 0 is not between 1 and 100", ".offcanvas")
        self.retype(field, "1")
        self.click("button", "Save as new version")
        self.see("waits for the worker", ".job")
        self.see("v3", "header")
        self.see("Waits to be measured", ".view")
        self.open("/line/fused")
        self.see("Waits to be measured", ".view")
        self.assertFalse(self.all(".view table"))
        self.click("header nav a", "Trials")
        self.see("Build and measure two-branch v3", ".to-come")
        self.assertEqual(self.text("header .count"), "1")
        self.until(lambda _: len(self.all("[data-trial]")) == 2)
        self.work()
        self.until(lambda _: len(self.all("[data-trial]")) == 3 and not self.all(".to-come, header .count"))
        self.open("/line/context")
        self.until(lambda _: not self.all(".job"), "the job to end")
        self.until(lambda _: self.text(".delivered") not in ("", delivered))
        self.see("up to 1 chunks", "[data-stage=context]")
        self.click("#recipe-in-force")
        self.click(".dropdown-item", "two-branch v2")
        self.see("v2", "header")
        self.until(lambda _: self.text(".delivered") == delivered)

    def test_a_draft_is_tried_beside_the_recipe_and_kept_or_dropped_with_a_key(self):
        self.open("/line/context")
        self.click(".question", GALE)
        self.see("of 1,500 tokens", ".view")
        before = len(self.all(".piece"))
        self.assertGreater(before, 1)
        self.click("button", "Edit recipe")
        self.retype(self.one("#select\\.k"), "1")
        self.see("select.k:", ".draft-bar")
        self.see("Delivered", ".draft-bar")
        self.until(lambda _: len(self.all(".piece")) == 1)
        self.one("[data-stage=context] .of-draft")
        self.assertEqual(RecipeVersion.objects.get(in_force=True).body["select"]["k"], 5)
        self.retype(self.one("#chunking\\.size"), "90")
        self.see("would have to be built first", ".draft-bar")
        self.click(".offcanvas .btn-close")
        self.breaks_no_rule("a draft")
        self.keys("x")
        self.until(lambda _: not self.all(".draft-bar"))
        self.until(lambda _: len(self.all(".piece")) == before)
        self.click("button", "Edit recipe")
        self.retype(self.one("#select\\.k"), "1")
        self.see("Delivered", ".draft-bar")
        self.click(".offcanvas .btn-close")
        self.keys("y")
        self.see("v3", "header")
        self.until(lambda _: not self.all(".draft-bar"))
        self.assertEqual(RecipeVersion.objects.get(in_force=True).body["select"]["k"], 1)

    def test_what_is_said_beside_a_question_is_searched_by_for_this_once(self):
        self.open("/line/sparse")
        self.click(".question", GALE)
        self.click(".before .fold")
        terms = len(self.all(".before .chip"))
        self.click(".before .chip", "gondola")
        self.until(lambda _: len(self.all(".before .chip")) == terms - 1)
        self.one("#only-where").send_keys("title has wind", Keys.ENTER)
        self.see("may be found", ".before")
        self.see("only where title has wind", ".before .fold")
        self.one("#other-wording").send_keys("a storm halts the cabins", Keys.ENTER)
        self.see("typed by hand", ".before .wordings")
        self.breaks_no_rule("before the search")
        self.click(".before button", "As the recipe says")
        self.see("Searched by all of its words", ".before .fold")
        self.assertFalse(self.all(".before .wordings"))
        self.click("button", "Side by side")
        self.until(lambda _: len(self.all(".columns li")) > 10)
        columns = len(self.all(".columns section"))
        other = RecipeVersion.objects.exclude(in_force=True).first()
        Select(self.one("[aria-label='Add a recipe']")).select_by_value(str(other.pk))
        self.until(lambda _: len(self.all(".columns section")) == columns + 1)
        self.breaks_no_rule("side by side")
        self.click("[data-column=sparse] button")
        self.until(lambda _: len(self.all(".columns section")) == columns)

    def test_a_job_that_waits_is_cancelled_from_the_line(self):
        self.open("/line/chunks")
        self.click("button", "Edit recipe")
        self.retype(self.one("#chunking\\.size"), "90")
        self.click("button", "Save as new version")
        self.see("waits for the worker", ".job")
        self.click(".job button", "Cancel")
        self.see("Cancelled before it started.", ".job")
        self.open("/line/sparse")
        self.see("are not built for the present documents; run its trial", ".view")
        self.click(".view .state button", "Build and measure")
        self.see("waits for the worker", ".job")
        self.work()
        self.until(lambda _: not self.all(".job"), "the job to end")
        self.open("/line/chunks")
        self.see("up to 90 tokens", ".view")
        self.click("#recipe-in-force")
        self.click(".dropdown-item", "two-branch v2")
        self.see("v2", "header")

    def test_settings_are_swept_and_those_that_were_picked_taken(self):
        self.open("/trials/sweeps")
        add = "[aria-label='Add a setting']"
        Select(self.one(add)).select_by_value("fusion.weights.dense")
        Select(self.one(add)).select_by_value("select.k")
        self.retype(self.one("[aria-label='Values of Fused: weight of dense']"), "nothing")
        self.see('fusion.weights.dense: "nothing" is not a number', "[role=status]")
        self.retype(self.one("[aria-label='Values of Fused: weight of dense']"), "0,1,4")
        self.retype(self.one("[aria-label='Values of Context: at most, in chunks']"), "1,3")
        self.see("7 settings × 18 questions, nothing to build", "[role=status]")
        self.click("button", "Begin")
        self.see("waits for the worker", ".sweeps .job")
        self.work()
        self.see("chosen, on questions it has not seen", ".verdict")
        self.assertEqual(len(self.all(".heat button")), 6)
        self.assertEqual(len(self.all(".sweeps .list tbody tr")), 7)
        self.click(".heat button[aria-label*='weight of dense 4'][aria-label*='in chunks 3']")
        self.see("Fused: weight of dense 4", "div.picked")
        self.breaks_no_rule("sweep")
        self.click("button", "Take these settings")
        self.see("In force", "div.picked")
        self.click(".sweeps button", "Remove")
        self.see("New sweep", ".sweeps h2")
        body = RecipeVersion.objects.get(in_force=True).body
        self.assertEqual((body["fusion"]["weights"]["dense"], body["select"]["k"]), (4, 3))

    def test_a_figure_is_watched_and_says_when_it_falls(self):
        self.open("/trials/gates")
        self.retype(self.one(".new-gate input"), "0.999")
        self.click("button", "Make the gate")
        self.see("delivered: closed", ".gate")
        self.see("1", ".parts .count")
        self.see("is below 0.999", ".gate")
        self.assertEqual(len(self.all(".course .mark")), 1)
        self.breaks_no_rule("gates")
        self.click("button", "Measure now")
        self.work()
        self.until(lambda _: len(self.all(".course .mark")) == 2)
        self.see("nothing moved", ".gate")
        self.click(".gate button", "Remove")
        self.one("form.new-gate")

    def test_the_sign_in_form_lets_a_person_in(self):
        user = User.objects.get()
        user.set_password("a long password")
        user.save()
        self.driver.delete_all_cookies()
        self.driver.get(f"{self.live_server_url}/sign-in")
        self.one("#username").send_keys(user.username)
        self.one("#password").send_keys("a wrong one", Keys.ENTER)
        self.see("do not match", "[role=alert]")
        self.one("#password").send_keys("a long password", Keys.ENTER)
        self.one(".stage")

    def test_a_moved_setting_redraws_the_open_document_and_is_built_from_there(self):
        self.open("/line/chunks")
        self.until(lambda _: self.all("[data-cut=new]") and len(self.all(".chunk-start")) > 5)
        before = len(self.all(".reader [data-at] .chunk-start"))
        field = self.one(".cut-settings [aria-label=Size]")
        self.retype(field, "400")
        self.until(lambda _: 1 < len(self.all(".reader [data-at] .chunk-start")) < before / 2)
        self.until(lambda _: self.all("mark.past"), "tokens past the limit are struck through")
        self.assertRegex(self.text("[data-cut]"), r"cut in [\d.]+ ms")
        self.see("this", ".cut-figures")
        self.retype(field, "4")
        self.see("chunking.size: 4 is not between 8 and 100000", ".cut-settings")
        Select(self.one(".cut-settings select")).select_by_value("outline")
        self.retype(field, "200")
        self.click("button", "Side by side")
        self.until(lambda _: len(self.all(".cut-pair .text-pane")) == 2)
        self.click("button", "Use and build")
        self.see("waits for the worker", ".job")
        self.work()
        self.until(lambda _: not self.all(".job"), "the job to end")
        self.see("outline, up to 200 tokens", ".view .head")
        self.click("#recipe-in-force")
        self.click(".dropdown-item", "two-branch v2")
        self.see("natural breaks, up to 160 tokens", ".view .head")

    def test_files_come_in_each_with_its_own_end(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        folder = Path(place.name)
        text = (ROOT / "demo/documents/parts/spare-parts.csv").read_text()
        (folder / "spare-parts.csv").write_text(text)
        (folder / "torn.pdf").write_bytes(b"%PDF-1.4 torn")
        (folder / "faults.jsonl").write_text(
            '{"nr": "1", "fault": "The door of the depot is torn.", "fix": "Mended"}'
        )
        bolts = folder / "bolts"
        (bolts / "shown").mkdir(parents=True)
        (bolts / "bolt.html").write_text('<h1>Bolts</h1><p>It is red.</p><img src="shown/red.png" alt="A red bolt">')
        (bolts / "shown" / "red.png").write_bytes(make_picture(RED))
        (bolts / ".kept-by-an-editor").write_text("x")
        self.open("/line/documents")
        self.click(".view button", "Import")
        names = ("spare-parts.csv", "torn.pdf", "faults.jsonl")
        chooser = self.one("[aria-label='Choose files']")
        chooser.send_keys("\n".join(str(folder / name) for name in names))
        self.see("3 of 3 files ready", ".offcanvas")
        self.drop(bolts, ".drop")
        self.see("5 of 5 files ready", ".offcanvas")
        self.see("bolts/shown/red.png", ".file-rows")
        row = next(row for row in self.all(".file-rows li") if "faults" in row.text)
        row.find_element(By.CSS_SELECTOR, "button").click()
        Select(self.one("[aria-label='Use of fault']")).select_by_value("matched")
        Select(self.one("[aria-label='Use of fix']")).select_by_value("carried")
        self.click("button", "A row is a document")
        self.see("Searched: fault. Carried along: fix.", ".offcanvas")
        self.click(".offcanvas section button", "Import")
        self.one("[data-import=queued]")
        self.work()
        self.see("a broken PDF", ".offcanvas")
        self.see("the same content as parts/spare-parts.csv", ".offcanvas")
        self.see("5 files: 2 added, 1 there already, 1 refused, 1 shown in a page.", ".offcanvas")
        self.click(".offcanvas .btn-close")
        self.retype(self.one("[aria-label='Title or file name']"), "faults.jsonl#")
        self.see("The door of the depot is torn.", ".document-list")
        self.click(".document-row button", "The door of the depot")
        self.see("Mended", ".about")
        self.retype(self.one("[aria-label='Title or file name']"), "bolt")
        self.click(".document-row button", "Bolts")
        picture = self.one(".reader img[alt='A red bolt']")
        self.until(lambda d: d.execute_script("return arguments[0].naturalWidth", picture) == 120, "the picture")
        self.click("[aria-label^='Select']")
        self.retype(self.one("[aria-label='Title or file name']"), "faults.jsonl#")
        self.see("The door of the depot is torn.", ".document-list")
        self.click("[aria-label^='Select']")
        self.click("button", "Remove 2 documents")
        self.click(".document-list .btn-danger")
        self.until(lambda _: "12 documents" in self.text(".document-list"))
        self.work()

    def test_a_heading_is_corrected_in_place_and_put_back(self):
        self.open("/line/documents")
        self.retype(self.one("[aria-label='Title or file name']"), "ice-and-snow")
        self.click(".document-row button", "Ice and snow rules")
        self.see("2 Ice on the rope", ".outline")
        self.click("[aria-label='Correct Ice on the rope']")
        self.click(".dropdown-item", "join with the section before")
        self.until(lambda _: "2 Ice on the rope" not in self.text(".outline"))
        self.see("number 3 follows 1", ".outline")
        self.see("1 corrected by hand", ".outline")
        entry = Document.objects.get(name="rules/ice-and-snow.md")
        self.assertEqual([row["action"] for row in entry.corrections], ["join"])
        self.driver.execute_script(
            "const blocks = [...document.querySelectorAll('[data-at]')];"
            "const block = blocks.find(b => b.textContent === '2 Ice on the rope');"
            "getSelection().selectAllChildren(block);"
            "block.dispatchEvent(new MouseEvent('mouseup', {bubbles: true}))"
        )
        self.click("button", "Begin a section, level 2")
        self.see("2 Ice on the rope", ".outline")

    def test_structures_are_measured_and_one_is_chosen_with_a_click(self):
        self.open("/line/dense")
        self.click("button", "Speed and exactness")
        self.click("button", "Measure structures")
        self.see("waits for the worker", ".body .job")
        self.work()
        self.until(lambda _: len(self.all(".survey path.point[role=button]")) > 10)
        self.see("recall@10", ".survey")
        self.driver.execute_script(
            "[...document.querySelectorAll('.survey path[role=button]')]"
            ".find((p) => p.getAttribute('aria-label').startsWith('graph'))"
            ".dispatchEvent(new MouseEvent('click', {bubbles: true}))"
        )
        self.see("graph (HNSW)", "[data-structure=hnsw]")
        self.click("button", "Use and build")
        self.until(lambda _: RecipeVersion.objects.get(in_force=True).note.startswith("Dense structure: graph"))
        self.see("waits for the worker", ".job")
        self.work()
        self.until(lambda _: "cosine, hnsw" in self.text("[data-stage=dense]"))

    def test_a_shortlist_is_reranked_by_a_joint_scorer_and_taken_apart(self):
        body = {**RecipeVersion.objects.get(name="two-branch", version=2).body, "name": "joint"}
        saved = save_recipe(Workspace.objects.get(), {**body, "rerank": {"scorer": "joint-english", "shortlist": 3}})
        measure_recipe(saved, Silent())
        self.open("/line/reranked")
        self.see("reads question and passage together", ".view")
        self.one("[aria-label^='First relevant chunk before and after reranking'] line")
        self.click("button", "Floor")
        floor = self.one("[role=slider]")
        floor.send_keys(*[Keys.ARROW_RIGHT] * 30)
        self.see("Floor .300", ".floor")
        lost = self.text(".floor .facts-table")
        self.assertRegex(lost, r"answers lost\s+\d+ of \d+ that go on")
        self.click("button", "Use this floor")
        self.until(lambda _: RecipeVersion.objects.get(in_force=True).body["rerank"]["floor"] == 0.3)
        put_in_force(saved)
        self.open("/line/reranked")
        self.click("button", "Shortlist depth")
        self.see("No depth has been measured with this scorer yet", ".view")
        key = depth_key(saved.workspace, pipelines.get(saved.workspace, core_recipe(saved)))
        points = [
            {"depth": d, "recall": {"1": d / 60, "3": d / 55, "5": d / 50}, "seconds": d / 40} for d in (3, 10, 50)
        ]
        Survey.objects.create(workspace=saved.workspace, key=key, points=points, questions=9)
        self.open("/line/reranked")
        self.click("button", "Shortlist depth")
        self.one("[aria-label^='Depth 10:']").send_keys(Keys.ENTER)
        self.see("250 ms", ".depth")
        self.click("button", "Use this depth")
        self.until(lambda _: RecipeVersion.objects.get(in_force=True).body["rerank"]["shortlist"] == 10)
        put_in_force(saved)
        self.open("/line/reranked")
        self.click("button", "Try a scorer")
        self.until(lambda _: len(self.all(".tried tbody tr")) == 4)
        apart = [int(row.find_elements(By.TAG_NAME, "td")[2].text.split()[0]) for row in self.all(".tried tbody tr")]
        self.assertEqual(sorted(apart), [1, 2, 3, 4])
        self.retype(self.one("[aria-label='Passages to try']"), "Dogs wear a muzzle. The rope is oiled.")
        self.until(lambda _: len(self.all(".tried tbody tr")) == 1)
        self.until(lambda _: len(self.all("mark.rests")) == 2)
        self.open(f"/line/reranked?q={self.number(GALE)}")
        self.until(lambda _: self.all("mark.rests"))
        self.click("button", "Try a scorer")
        self.until(lambda _: len(self.all(".tried tbody tr")) == 3)
