"""The Serve page: a recipe gets a name and a key, is asked from outside and tried inside, and changes its version."""

import json
from urllib.request import Request, urlopen

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from doppio.library.models import Workspace
from doppio.questions.models import Question
from doppio.recipes.services import save_recipe
from doppio.serving.versions import versions
from tests.browser.page import GALE, Page
from tests.browser.prepared import SMALL


class Serving(Page):
    prepared, fresh = SMALL, True

    def setUp(self):
        super().setUp()
        versions.__init__()
        space = Workspace.objects.get()
        body = space.recipes.get(in_force=True).body
        # What only answers otherwise is built already.
        select = {**body["select"], "answer": {"kind": "sentences"}}
        self.answering = save_recipe(space, {**body, "name": "answering", "select": select}, in_force=False)

    def ask(self, secret, question):
        request = Request(
            f"{self.live_server_url}/serve/desk/search", json.dumps({"question": question}).encode(),
            {"Authorization": f"Bearer {secret}", "Content-Type": "application/json"},
        )  # fmt: skip
        with urlopen(request, timeout=30) as answer:
            return json.load(answer)

    def choose(self, selector, text):
        """Choose a version once the list of them is there."""
        self.until(lambda _: text in self.text(selector))
        Select(self.one(selector)).select_by_visible_text(text)

    def test_a_recipe_is_published_asked_tried_and_replaced(self):
        self.open("/serving")
        self.retype(self.one(".publish input"), "desk")
        self.choose(".publish select", "answering v1")
        self.click(".publish button", "Publish")
        self.see("Nobody asked in this time", ".watch")
        self.breaks_no_rule("watch, empty")

        self.click(".parts a", "Keys")
        self.retype(self.one(".new-key input"), "the desk")
        self.click(".new-key button", "Make key")
        secret = self.text(".secret code")
        self.breaks_no_rule("keys")
        for question in (GALE, "What is E-417?"):
            self.assertTrue(self.ask(secret, question)["passages"])
        self.click(".secret button", "I have it")
        self.until(lambda _: secret not in self.driver.page_source)

        self.click(".parts a", "Watch")
        self.see("2\nasked", ".served-figures")
        self.see("all of it", ".times")
        self.breaks_no_rule("watch")

        self.click(".parts a", "Try it")
        self.one(".talk-ask input").send_keys(GALE, Keys.ENTER)
        self.one(".said .cite")
        self.click(".said .cite")
        self.one(".cited blockquote")
        self.breaks_no_rule("try it")
        self.click(".opinion button", "This is wrong")
        self.one(".opinion input").send_keys("the limit is another", Keys.ENTER)
        self.see("waits for a label", ".opinion")
        self.assertEqual(Question.objects.get(set__name="From use").text, GALE)
        self.click(".cited a", "read it there")
        self.one(".reader mark.focus")

        self.open("/serving/versions")
        self.choose(".release select", "two-branch v2, in force")
        self.click(".release button", "Let it answer")
        self.see("two-branch v2 hands passages on", ".served-head")
        self.breaks_no_rule("versions")
        self.click(".release button", "Back to answering v1")
        self.see("answering v1 answers", ".served-head")

        self.click(".parts a", "From use")
        self.see("Figures alone", ".keep")
        self.retype(self.one(".keep input"), "30")
        self.click(".keep button", "Keep it so")
        self.see("for 30 days", ".keep")
        self.ask(secret, "Is there soup?")
        self.open("/serving/questions")
        self.see("Is there soup?", ".offered")
        self.breaks_no_rule("from use")
        self.click(".offered input")
        self.click(".from-use button", "Put 1 under")
        self.see("No question waits here", ".from-use")
