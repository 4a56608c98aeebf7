"""From an empty workspace to a first figure, and labels by hand: what a person does, in the browser alone."""

import tempfile
from pathlib import Path

from django.contrib.auth.models import User
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from doppio.library.models import Membership, Role, Workspace
from doppio.questions.models import AnswerSpan, Question
from tests.browser.page import GALE, Page
from tests.browser.prepared import SMALL

FERRY = "# Ferry\n\nThe ferry leaves at noon. It carries forty people.\n\n# Storm\n\nIn a storm the ferry stays.\n"
# Selects words of the page as a drag of the mouse does.
SELECT = """
const [words, within] = arguments;
for (const block of document.querySelectorAll(`${within} [data-at]`)) {
  const walker = document.createTreeWalker(block, NodeFilter.SHOW_TEXT);
  for (let node = walker.nextNode(); node; node = walker.nextNode()) {
    const at = node.data.indexOf(words);
    if (at < 0) continue;
    const range = document.createRange();
    range.setStart(node, at);
    range.setEnd(node, at + words.length);
    getSelection().removeAllRanges();
    getSelection().addRange(range);
    return true;
  }
}
return false;
"""
# Drags the start of the answer to the beginning of these words, as a mouse does.
DRAG = """
const words = arguments[0];
const mark = document.querySelector(".reader mark.pinned");
const block = mark.closest("[data-at]");
const walker = document.createTreeWalker(block, NodeFilter.SHOW_TEXT);
const range = document.createRange();
for (let node = walker.nextNode(); node; node = walker.nextNode()) {
  const at = node.data.indexOf(words.slice(0, 4));
  if (at < 0) continue;
  range.setStart(node, at);
  range.setEnd(node, at + 1);
  break;
}
const from = mark.getClientRects()[0];
const to = range.getClientRects()[0];
const at = (type, x, box, target) =>
  target.dispatchEvent(new MouseEvent(type, {bubbles: true, clientX: x, clientY: box.top + box.height / 2}));
at("mousedown", from.left + 1, from, mark);
at("mousemove", to.left, to, window);
at("mouseup", to.left, to, window);
"""


class Labelling(Page):
    prepared, fresh = SMALL, True

    def select(self, words, within=".reader"):
        self.until(lambda _: self.driver.execute_script(SELECT, words, within), f"{words!r} to select")
        self.see(f"“{words}”", ".label-bar")

    def quotes(self, question):
        spans = AnswerSpan.objects.filter(question=question).select_related("document").order_by("pk")
        return [(span.document.text[span.start : span.end], span.grade) for span in spans]

    def test_a_new_workspace_is_led_from_documents_to_a_first_figure(self):
        self.open("/line/fused")
        self.click(".workspace-name")
        self.click(".dropdown-item", "New workspace")
        self.one("[aria-label='Name of the new workspace']").send_keys("Ferries", Keys.ENTER)
        self.see("Nothing is here yet", ".begin")
        workspace = Workspace.objects.get(name="Ferries")
        self.assertIn(f"/w/{workspace.pk}/begin", self.driver.current_url)
        self.click("button", "Bring in documents")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "ferry.md"
            path.write_text(FERRY)
            self.one(".import-panel").find_element("css selector", "[aria-label='Choose files']").send_keys(str(path))
            self.click(".import-panel button", "Import")
            self.see("waits for the worker", ".import-panel .job")
        self.work()
        self.click(".import-panel .btn-close")
        self.see("1 document is in", ".begin")
        for text in ("When does the ferry leave?", "Who is its captain?"):
            self.one("[aria-label='A new question']").send_keys(text, Keys.ENTER)
            self.see(text, ".written")
        self.click(".written li:nth-child(2) button", "Find its answer")
        self.click(".list-reader .hit", "Ferry")
        self.select("leaves at noon")
        self.keys("3")
        self.see("Saved as an answer of grade 3", ".label-bar")
        question = Question.objects.get(text="When does the ferry leave?")
        self.assertEqual(self.quotes(question), [("leaves at noon", 3.0)])
        self.keys("n")
        self.see("Who is its captain?", ".view h2")
        self.click(".label-bar button", "Nothing answers it")
        self.see("Marked: no document answers this", ".label-bar")
        self.click("header nav a", "Begin")
        self.see("2 questions, 2 of them labelled", ".begin")
        self.click(".begin button", "Build and measure")
        self.work()
        self.see("1 of 1 delivered", ".begin")
        self.click(".begin button", "See which stage loses what")
        self.see("100 %", ".delivered")

    def test_answers_are_marked_moved_graded_removed_and_taken_back(self):
        self.open("/line/documents")
        self.click(f"[data-question='{Question.objects.get(text=GALE).identity}']")
        question = Question.objects.get(text=GALE)
        before = self.quotes(question)
        self.keys("g")
        self.one(".label-bar")
        text = AnswerSpan.objects.filter(question=question).first().document.text
        words = next(line for line in text.splitlines() if len(line) > 60)[:30].rstrip()
        self.select(words)
        self.keys("1")
        self.see("Saved as an answer of grade 1", ".label-bar")
        self.assertEqual(self.quotes(question), [*before, (words, 1.0)])
        self.one(".reader mark.answer")
        self.click(".answer-card:nth-of-type(2) [aria-label='Grade 3']")
        self.see("Saved as an answer of grade 3", ".label-bar")
        self.assertEqual(self.quotes(question), [*before, (words, 3.0)])
        self.keys("u")
        self.see("Taken back", ".label-bar")
        self.assertEqual(self.quotes(question), [*before, (words, 1.0)])
        self.click(".answer-card:nth-of-type(2) .open")
        self.select(words[4:16].strip())
        self.click(".answer-card:nth-of-type(2) button", "Make it the selection")
        self.see("Moved", ".label-bar")
        self.assertEqual(self.quotes(question), [*before, (words[4:16].strip(), 1.0)])
        # An end of the answer is dragged over the words before it.
        self.until(lambda _: self.text(".reader mark[data-edge]") == words[4:16].strip(), "the answer where it is")
        self.driver.execute_script(DRAG, words)
        self.until(lambda _: self.quotes(question) == [*before, (words[:16].strip(), 1.0)], "the end to be moved")
        # What is pressed before a slow line has brought the answer's place anew goes by the place that it has.
        self.slow_down(0.7)
        self.keys("u")
        self.until(lambda _: self.quotes(question) == [*before, (words[4:16].strip(), 1.0)], "the end to be back")
        self.click(".answer-card:nth-of-type(2) button", "Remove")
        self.until(lambda _: self.quotes(question) == before)
        self.slow_down(0)
        # Each step is seen to be back before the next is asked for: a key in between is not kept.
        steps = ([(words[4:16].strip(), 1.0)], [(words, 1.0)], [])
        for kept in steps:
            self.until(lambda _: self.one(".label-bar button:nth-of-type(2)").is_enabled())
            self.keys("u")
            self.until(lambda _, kept=kept: self.quotes(question) == [*before, *kept], f"{kept} to be back")
        self.see("Last measured", ".delivered")
        self.click(".measure-again")
        self.work()
        self.see("± ", ".delivered")

    def test_a_hit_is_graded_by_a_key_and_marked_in_every_list(self):
        self.open("/line/sparse")
        self.one("#ask").send_keys("Where are the wind limits?", Keys.ENTER)
        self.click("button", "Keep and label it")
        self.see("Select the words that answer it", ".label-bar")
        question = Question.objects.get(text="Where are the wind limits?")
        first, second = (self.one(f".hit[data-place]:nth-of-type({place})") for place in (1, 2))
        ActionChains(self.driver).move_to_element(first).perform()
        self.keys("2")
        self.see("grade 2", ".hit[data-place]:nth-of-type(1)")
        ActionChains(self.driver).move_to_element(second).perform()
        self.keys("0")
        self.see("judged: no answer", ".hit[data-place]:nth-of-type(2)")
        self.assertEqual(sorted(AnswerSpan.objects.filter(question=question).values_list("grade", flat=True)), [0, 2])
        # A part of a passage that is shown may be the answer as well.
        words = self.text(".passage [data-at]")[:25].strip()
        self.select(words, ".passage")
        self.keys("3")
        self.see("Saved as an answer of grade 3", ".label-bar")
        self.assertIn((words, 3.0), self.quotes(question))

    def test_readers_see_no_way_to_change_things_and_workspaces_are_told_apart_by_the_address(self):
        Membership.objects.update(role=Role.READER)
        other = Workspace.objects.create(name="Another one")
        Membership.objects.create(workspace=other, user=User.objects.get(), role=Role.OWNER)
        number = Workspace.objects.exclude(pk=other.pk).get().pk
        self.open(f"/w/{number}/line/fused")
        self.click(".question")
        self.one(".view h2")
        self.assertFalse(
            [b.text for b in self.all("button") if b.text.startswith(("Edit recipe", "Label", "Change"))]
        )
        self.driver.get(f"{self.live_server_url}/w/999/line/fused")
        self.see("This workspace is not here")
