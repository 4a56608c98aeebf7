"""The built interface in headless Chromium: what a person does, and what a person sees."""

import os
import re
import tempfile
import time
from pathlib import Path

from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import LiveServerTestCase
from selenium import webdriver
from selenium.common.exceptions import (
    ElementClickInterceptedException,
    StaleElementReferenceException,
    TimeoutException,
)
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select, WebDriverWait

from doppio.asking.models import RecipeVersion
from doppio.asking.services import core_recipe, pipelines, put_in_force, save_recipe
from doppio.command.demo_data import RECIPES, load_demo
from doppio.core.progress import Silent
from doppio.indexing.models import Job, Survey
from doppio.library.entry import make_entry_link
from doppio.library.models import Document, Workspace
from doppio.measuring.models import Question
from doppio.measuring.reranking import depth_key
from doppio.measuring.services import measure_recipe
from tests.core.corpus import ROOT

FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --disable-dev-shm-usage --window-size=1280,900 "
    "--force-prefers-reduced-motion"
).split()
# A machine that is busy with something else may take its time.
PATIENCE = 90
GALE = "What stops the gondola in a gale?"


class Interface(LiveServerTestCase):
    """One workspace with the demo for all tests; each test leaves it as it was, or says so by its order."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        profile = tempfile.TemporaryDirectory()
        cls.addClassCleanup(profile.cleanup)
        options = webdriver.ChromeOptions()
        for flag in (*FLAGS, f"--user-data-dir={profile.name}"):
            options.add_argument(flag)
        options.binary_location = "/usr/bin/chromium"
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        cls.driver = webdriver.Chrome(options, webdriver.ChromeService("/usr/bin/chromedriver"))
        cls.addClassCleanup(cls.driver.quit)
        # All recipes but the last, whose trial reads thousands of pairs: the tests of reranking have a smaller one.
        load_demo(ROOT / "demo", RECIPES[:-1])

    def _fixture_teardown(self):
        """The demo stays for the next test; the test database goes with the class."""

    @classmethod
    def tearDownClass(cls):
        super().tearDownClass()
        call_command("flush", verbosity=0, interactive=False)

    def setUp(self):
        self.driver.delete_all_cookies()
        secret = make_entry_link(User.objects.get())
        self.driver.get(f"{self.live_server_url}/enter/{secret}")
        self.click("button")
        self.one(".question")
        self.driver.get_log("browser")

    def tearDown(self):
        noise = [row for row in self.driver.get_log("browser") if row["level"] == "SEVERE"]
        self.assertEqual(
            [row["message"] for row in noise if not re.search("status of (400|403|409)", row["message"])], []
        )

    def until(self, ready, what=""):
        wait = WebDriverWait(self.driver, PATIENCE, ignored_exceptions=[StaleElementReferenceException])
        return wait.until(ready, what)

    def all(self, selector):
        return self.driver.find_elements(By.CSS_SELECTOR, selector)

    def one(self, selector, text=None):
        def find(_driver):
            return next((e for e in self.all(selector) if text is None or text in e.text), None)

        return self.until(find, f"{selector} with {text!r}")

    def click(self, selector, text=None):
        """Click as a person does: once the thing stands still and nothing lies over it."""

        def clicked(_driver):
            found = self.one(selector, text)
            before = found.rect
            time.sleep(0.05)
            if found.rect != before:
                return False
            try:
                found.click()
            except ElementClickInterceptedException:
                return False
            return True

        self.until(clicked, f"a click on {selector} with {text!r}")

    def see(self, text, within="body"):
        try:
            self.until(lambda _: text in self.one(within).text)
        except TimeoutException:
            self.fail(f"{text!r} is not in {within}: {self.one(within).text[:1500]!r}")

    def open(self, path):
        self.driver.get(self.live_server_url + path)
        self.one(".stage")

    def keys(self, *keys):
        self.one("body").send_keys(*keys)

    def retype(self, field, text):
        field.send_keys(Keys.CONTROL, "a")
        field.send_keys(text)

    def work(self):
        """Let a worker do what is queued, and see that it is done."""
        newest = Job.objects.order_by("-pk").first()
        call_command("work", once=True)
        newest.refresh_from_db()
        self.assertEqual(newest.state, Job.DONE, f"{newest.title}: {newest.message}")

    def number(self, text):
        return Question.objects.get(text=text).pk

    def test_1_the_line_shows_seven_stages_and_adds_up(self):
        self.open("/line/fused")
        self.until(lambda _: len(self.all(".gauge")) == 7)
        self.assertEqual([block.get_attribute("data-stage") for block in self.all(".stage")],
                         ["documents", "chunks", "sparse", "dense", "fused", "reranked", "context"])  # fmt: skip
        delivered = int(self.one(".delivered").get_attribute("data-delivered"))
        self.assertIn(f"{delivered} of 158", self.one("[data-stage=context]").text)
        self.assertGreaterEqual(delivered, 135)

    def test_2_keys_open_stages_and_move_the_pin(self):
        self.open("/line/documents")
        self.one(".question")
        self.keys("5")
        self.until(lambda d: "/line/fused" in d.current_url)
        self.keys("j")
        self.until(lambda d: "q=" in d.current_url)
        first = self.driver.current_url
        self.one("[aria-label='Rank flow']")
        self.keys("j")
        self.until(lambda d: d.current_url != first)
        self.keys("k")
        self.until(lambda d: d.current_url == first)
        self.keys("n")
        self.until(lambda d: d.current_url != first)
        self.see("not right", ".drawer")
        self.keys("7")
        self.until(lambda d: "/line/context?q=" in d.current_url)
        self.keys("?")
        self.see("Keys and words", ".modal")
        self.keys(Keys.ESCAPE)
        self.until(lambda _: not self.all(".modal.show"))
        self.keys("/")
        self.until(lambda d: d.switch_to.active_element.get_attribute("id") == "ask")

    def test_3_every_stage_view_shows_the_pinned_question(self):
        number = self.number(GALE)
        for stage, seen in {
            "documents": "Operation of line B ceases when the mean speed at any tower",
            "chunks": "touch",
            "sparse": "Why it is there",
            "dense": "Nearest 50 chunks",
            "fused": "first relevant chunk at",
            "reranked": "darker adds more to the score",
            "context": "of 1,500 tokens",
        }.items():
            with self.subTest(stage):
                self.open(f"/line/{stage}?q={number}")
                self.see(seen, ".view")
                self.see(GALE, ".view")
        self.assertFalse(self.all("[role=alert]"))

    def test_4_every_stage_view_shows_the_stage_as_a_whole(self):
        for stage, seen in {
            "documents": "Alarm codes",
            "chunks": "answers not whole",
            "sparse": "Commonest codes",
            "dense": "nearest neighbour",
            "fused": "The shipped mix was chosen like this",
            "reranked": "Question and passage are still encoded apart",
            "context": "No answer exists, yet passages were packed",
        }.items():
            with self.subTest(stage):
                self.open(f"/line/{stage}")
                self.see(seen, ".view")

    def test_5_the_rank_flow_marks_the_answer_and_tells_the_sum(self):
        self.open(f"/line/fused?q={self.number(GALE)}")
        self.until(lambda _: len(self.all("path.thread.relevant")) == 2)
        nodes = self.all("[data-lane=fused]")
        self.assertEqual(len(nodes), 20)
        nodes[0].click()
        self.see("fused at 1:", ".card-passage")
        self.assertIn("gives", self.one(".card-passage").text)

    def test_6_a_typed_question_runs_live(self):
        self.open("/line/context")
        box = self.one("#ask")
        box.send_keys("where does my cat ride", Keys.ENTER)
        self.see("Cats, rabbits and birds travel in a carrier", ".view")
        self.see("without a label nothing can be called lost", ".view")

    def test_7_choosing_a_tag_filters_the_drawer(self):
        self.open("/line/fused")
        Select(self.one("[aria-label=Tag]")).select_by_visible_text("unanswerable")
        self.see("16 of 16 not right", ".drawer")
        self.click(".question", "salary")
        self.see("No document answers it", ".view")

    def test_8_the_trials_page_compares_recipes(self):
        self.open("/trials")
        self.one("[data-trial='sparse alone']")
        self.assertEqual(len(self.all("[data-trial]")), 6)
        self.assertGreaterEqual(len(self.all(".ledger-strip")), 5)
        self.see("wrongly filled", ".trials")
        before = self.one("[data-trial='dense alone']").text
        Select(self.one(".trials select")).select_by_value("dense")
        self.until(lambda _: self.one("[data-trial='two-branch']").text != before)
        self.assertIn("–", self.one("[data-trial='sparse alone']").text)

    def test_9_an_edited_recipe_is_refused_or_measured_and_the_levels_follow(self):
        self.open("/line/context")
        delivered = self.one(".delivered").text
        self.click("button", "Edit recipe")
        field = self.one("#select\\.k")
        self.retype(field, "0")
        self.click("button", "Save as new version")
        self.see("select.k: 0 is not between 1 and 100", ".offcanvas")
        self.retype(field, "1")
        self.click("button", "Save as new version")
        self.see("waits for the worker", ".job")
        self.see("v3", "header")
        self.work()
        self.until(lambda _: not self.all(".job"), "the job to end")
        self.until(lambda _: self.one(".delivered").text not in ("", delivered))
        self.see("up to 1 chunks", "[data-stage=context]")
        self.click("#recipe-in-force")
        self.click(".dropdown-item", "two-branch v2")
        self.see("v2", "header")
        self.until(lambda _: self.one(".delivered").text == delivered)

    def test_a1_a_cut_answer_is_a_click_away_from_its_place(self):
        self.open("/line/chunks")
        row = self.one(".problem")
        title = row.text.split("\n")[1].split(";")[0]
        row.click()
        self.until(lambda _: title in Select(self.one("[aria-label=Document]")).first_selected_option.text)
        self.until(lambda _: self.all("mark.cut") and self.all("mark.focus"))
        shown = self.one("mark.focus")
        self.until(lambda d: d.execute_script("const b = arguments[0].getBoundingClientRect(); "
                                              "return b.top > 0 && b.bottom < innerHeight", shown))  # fmt: skip
        self.click("[role=tab]", "mid-sentence")
        self.until(lambda _: len(self.all(".problem")) > 3)

    def test_a8_a_moved_setting_redraws_the_open_document_and_is_built_from_there(self):
        self.open("/line/chunks")
        self.until(lambda _: self.all("[data-cut=new]") and len(self.all(".chunk-start")) > 5)
        before = len(self.all(".reader [data-at] .chunk-start"))
        field = self.one(".cut-settings [aria-label=Size]")
        self.retype(field, "400")
        self.until(lambda _: 1 < len(self.all(".reader [data-at] .chunk-start")) < before / 2)
        self.until(lambda _: self.all("mark.past"), "tokens past the limit are struck through")
        took = re.search(r"cut in ([\d.]+) ms", self.one("[data-cut]").text)
        self.assertLess(float(took[1]), 400)
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

    def test_a9_files_come_in_each_with_its_own_end(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        folder = Path(place.name)
        text = (ROOT / "demo/documents/parts/spare-parts.csv").read_text()
        (folder / "spare-parts.csv").write_text(text)
        (folder / "torn.pdf").write_bytes(b"%PDF-1.4 torn")
        (folder / "faults.jsonl").write_text(
            '{"nr": "1", "fault": "The door of the depot is torn.", "fix": "Mended"}'
        )
        self.open("/line/documents")
        self.click(".view button", "Import")
        names = ("spare-parts.csv", "torn.pdf", "faults.jsonl")
        chooser = self.one("[aria-label='Choose files']")
        chooser.send_keys("\n".join(str(folder / name) for name in names))
        self.see("3 of 3 files ready", ".offcanvas")
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
        self.see("3 files: 1 added, 1 there already, 1 refused.", ".offcanvas")
        self.click(".offcanvas .btn-close")
        self.retype(self.one("[aria-label='Title or file name']"), "faults.jsonl#")
        self.see("The door of the depot is torn.", ".document-list")
        self.click(".document-row button", "The door of the depot")
        self.see("Mended", ".about")
        self.click("[aria-label^='Select']")
        self.click("button", "Remove 1 document")
        self.click(".document-list .btn-danger")
        self.until(lambda _: "120 documents" in self.one(".document-list").text)
        self.work()

    def test_b1_a_heading_is_corrected_in_place_and_put_back(self):
        self.open("/line/documents")
        self.retype(self.one("[aria-label='Title or file name']"), "ice-and-snow")
        self.click(".document-row button", "Ice and snow rules")
        self.see("2 Ice on the rope", ".outline")
        self.click("[aria-label='Correct Ice on the rope']")
        self.click(".dropdown-item", "join with the section before")
        self.until(lambda _: "2 Ice on the rope" not in self.one(".outline").text)
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

    def test_b2_words_are_found_and_pages_stand_beside_the_text(self):
        self.open("/line/documents")
        self.retype(self.one("[aria-label='Title or file name']"), "winter-safety-plan")
        self.click(".document-row button", "Winter safety plan")
        self.one("[aria-label='Find in the text']").send_keys("detonators")
        self.see("1 of 1", ".document-head")
        self.assertEqual(self.one("mark.here").text, "detonators")
        self.click(".segments button", "Page")
        self.see("page 2 of", ".page-picture")
        picture = self.one(".page-picture img")
        self.until(lambda d: d.execute_script("return arguments[0].naturalWidth", picture) > 600)

    def test_b3_metadata_narrow_the_list(self):
        self.open("/line/documents")
        Select(self.one("[aria-label=Metadata]")).select_by_value("minutes_stopped")
        Select(self.one("[aria-label=Comparison]")).select_by_value("from")
        Select(self.one("[aria-label=Value]")).select_by_value("21")
        self.see("3 of 120 documents", ".document-list")

    def test_b4_structures_are_measured_and_one_is_chosen_with_a_click(self):
        # Tests before this one changed documents and changed them back, so indexes may be gone.
        measure_recipe(RecipeVersion.objects.get(in_force=True), Silent())
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
        self.until(lambda _: "cosine, hnsw" in self.one("[data-stage=dense]").text)
        put_in_force(RecipeVersion.objects.get(name="two-branch", version=2))

    def test_b8_a_shortlist_is_reranked_by_a_joint_scorer_and_taken_apart(self):
        body = {**RecipeVersion.objects.get(name="two-branch", version=2).body, "name": "joint"}
        saved = save_recipe(Workspace.objects.get(), {**body, "rerank": {"scorer": "joint-english", "shortlist": 3}})
        measure_recipe(saved, Silent())
        self.open("/line/reranked")
        self.see("reads question and passage together", ".view")
        self.one("[aria-label='First relevant chunk before and after reranking'] line")
        self.click("button", "Floor")
        floor = self.one("[role=slider]")
        floor.send_keys(*[Keys.ARROW_RIGHT] * 30)
        self.see("Floor .300", ".floor")
        lost = self.one(".floor .facts-table").text
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
        self.one("[aria-label='Depth 10']").send_keys(Keys.ENTER)
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
        put_in_force(RecipeVersion.objects.get(name="two-branch", version=2))
        RecipeVersion.objects.filter(name="joint").delete()

    def test_b5_the_map_leads_from_chunk_to_chunk_and_pairs_follow_the_bar(self):
        self.open(f"/line/dense?q={self.number(GALE)}")
        self.click("button", "Map")
        self.until(lambda _: self.all("[data-spot]"))
        self.assertTrue(self.all(".spot.answer"))
        before = self.one(".neighbours .card-passage").text
        self.all(".neighbours .hit")[0].click()
        self.until(lambda _: self.one(".neighbours .card-passage").text != before)
        self.open("/line/dense")
        self.click("button", "Near-identical chunks")
        self.until(lambda _: self.one("[data-pairs]").get_attribute("data-pairs") not in ("", None))
        few = int(self.one("[data-pairs]").get_attribute("data-pairs"))
        self.one("#above").send_keys(Keys.ARROW_LEFT * 8)
        self.until(lambda _: int(self.one("[data-pairs]").get_attribute("data-pairs") or 0) > few)

    def test_b6_the_playground_shows_each_step_as_settings_move(self):
        self.open("/line/sparse")
        self.click("button", "Analysis playground")
        self.retype(self.one("[aria-label='Text to analyse']"), "The gondolas at E-417")
        self.see("e-417", "[data-token='E-417']")
        self.see("stop word", "[data-token=The]")
        self.one("#analysis-stem").click()
        self.until(lambda _: "gondolas" in self.one("[data-token=gondolas] .term-chip").text)
        self.see("in the index as it is built now", ".steps")

    def test_b7_what_a_build_costs_is_said_before_it_starts(self):
        self.open("/line/fused")
        self.click("button", "Edit recipe")
        self.one("[data-cost]")
        self.retype(self.one("[id='chunking.size']"), "97")
        self.see("To build: about", "[data-cost=some]")
        self.see("encode chunks", "[data-cost=some]")
        self.click("button", "Drop")

    def test_a2_a_hit_shows_its_terms_and_their_sum(self):
        self.open(f"/line/sparse?q={self.number('What does alarm E-417 mean?')}")
        hits = self.until(lambda _: self.all(".hit"))
        self.assertEqual(len(hits), 20)
        hits[1].click()
        self.until(lambda _: self.all(".hit")[1].get_attribute("aria-pressed") == "true")
        shown = self.one(".card-passage").get_attribute("data-passage")
        self.assertEqual(shown, hits[1].get_attribute("data-chunk"))
        self.until(lambda _: any(mark.text == "E-417" for mark in self.all("mark.term")))
        rows = self.all(".view table tbody tr")
        self.assertEqual(rows[-1].text.split()[0], "Score")
        score = hits[1].text.split("\n")[2]
        self.assertEqual(rows[-1].text.split()[1], score)

    def test_a3_the_reranked_list_says_what_moved(self):
        self.open(f"/line/reranked?q={self.number(GALE)}")
        self.click(".segments button", "list")
        self.until(lambda _: len(self.all(".hit")) == 20)
        self.assertIn("goes on", self.all(".hit")[0].text)
        self.assertIn("beyond what goes on", self.all(".hit")[19].text)
        self.until(lambda _: self.all("mark.token"))

    def test_a4_a_document_is_read_and_leads_to_its_questions(self):
        self.open("/line/documents")
        self.retype(self.one("[aria-label='Title or file name']"), "ice-and-snow")
        self.click(".document-row button", "Ice and snow rules")
        self.see("Salt is never put on a rope", ".reader")
        self.until(lambda _: self.all("mark.answer"))
        self.click(".answers summary")
        self.click(".answers a")
        self.until(lambda d: "q=" in d.current_url)
        self.until(lambda _: self.all("mark.pinned"))
        self.keys(Keys.ESCAPE)
        self.until(lambda d: "q=" not in d.current_url)

    def test_a5_a_recipe_is_edited_as_json_and_its_mistakes_are_told(self):
        self.open("/line/fused")
        self.click("button", "Edit recipe")
        self.click(".offcanvas .segments button", "JSON")
        box = self.one("textarea")
        self.retype(box, "{")
        self.click("button", "Save as new version")
        self.see("Not JSON", ".offcanvas")
        self.retype(box, '{"format": "doppio-recipe/1", "speed": 3}')
        self.click("button", "Save as new version")
        self.see("speed: unknown key; allowed are", ".offcanvas")
        self.click("button", "Drop")
        self.until(lambda _: not self.all(".offcanvas.show"))

    def test_a6_a_job_that_waits_is_cancelled_from_the_line(self):
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

    def test_a7_the_sign_in_form_lets_a_person_in(self):
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

    def test_a_visitor_who_is_not_signed_in_sees_the_sign_in_page(self):
        self.driver.delete_all_cookies()
        self.driver.get(f"{self.live_server_url}/line/fused")
        self.until(lambda d: d.current_url.endswith("/sign-in"))
        self.see("See at which stage an answer is lost", "main")
        self.assertFalse(self.all(".stage"))


assert os.environ.get("DOPPIO_ARTIFACTS"), f"run through ./doppio test, from {Path.cwd()}"
