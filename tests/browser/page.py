"""What every browser test does: sign in, look, click, type; and leave a picture behind when it fails."""

import re
import shutil
import time
import unittest
from typing import ClassVar

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import LiveServerTestCase
from selenium.common.exceptions import (
    ElementClickInterceptedException,
    TimeoutException,
    WebDriverException,
)
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from doppio.jobs.models import Job
from doppio.launch.places import ROOT, VAR
from doppio.questions.models import Question
from tests.browser.driver import shared
from tests.browser.prepared import Prepared, leave

# A machine that is busy with something else may take its time. Every look costs the browser as much as a page does
# that is alive, so who waits longer looks less often.
PATIENCE, LOOK_AGAIN, SELDOM, SLOWER = 90, 0.04, 0.6, 1.35
GALE = "What stops the gondola in a gale?"
FAILURES = VAR / "test" / "failures"
GONE = re.compile(r"stale element|does not belong to the document|[Nn]o node with given id|detached")

AXE = (ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js").read_text(encoding="utf-8")
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
# What is seen of elements: the driver's own way to read a text walks over every node of it.
SEEN = """
const seen = (one) => one.checkVisibility() ? (one.innerText ?? one.textContent).replace(/[\\u00a0\\t]/g, " ") : "";
const [selector, text] = arguments;
"""
FIND = SEEN + "return [...document.querySelectorAll(selector)].find((one) => seen(one).includes(text)) ?? null"
READ = (
    SEEN
    + """
const found = document.querySelector(selector);
return found && seen(found).trim()
"""
)
RUN = """
const done = arguments[arguments.length - 1];
axe.run(document, {runOnly: arguments[0], resultTypes: ["violations"]}).then(
  (found) => done(found.violations.map((one) => [one.id, one.help, one.nodes.map((node) => node.html)])),
  (error) => done([["axe", String(error), []]]),
);
"""


class Page(LiveServerTestCase):
    """A browser on a prepared corpus.

    prepared : what the class starts from
    fresh : whether every test gets it as it was; otherwise tests share it, and change nothing
    """

    prepared: ClassVar[Prepared]
    fresh: ClassVar[bool] = False

    @classmethod
    def setUpClass(cls):
        cls.prepared.restore()
        cls.addClassCleanup(leave)
        super().setUpClass()
        cls.driver = shared()

    def _fixture_teardown(self):
        """Records stay for the next test, or are laid anew before it."""

    def run(self, result=None):
        before = _wrong(result)
        super().run(result)
        if _wrong(result) > before:
            self._keep_picture(result)
        return result

    def setUp(self):
        self.console = []
        # Nothing of the page before asks for anything any more.
        self.driver.get(f"{self.live_server_url}/health")
        if self.fresh:
            self.prepared.restore()
        self.driver.delete_all_cookies()
        self.client.force_login(User.objects.get())
        session = self.client.cookies[settings.SESSION_COOKIE_NAME].value
        self.driver.add_cookie({"name": settings.SESSION_COOKIE_NAME, "value": session})
        self.driver.get_log("browser")

    def tearDown(self):
        self.console = self.driver.get_log("browser")
        noise = [row["message"] for row in self.console if row["level"] == "SEVERE"]
        self.assertEqual([row for row in noise if not re.search("status of (400|403|409|429)", row)], [])

    def _keep_picture(self, result):
        """The page as it stands, and what its console said, where the run's output names them."""
        FAILURES.mkdir(parents=True, exist_ok=True)
        place = FAILURES / self.id()
        picture, said = place.with_name(f"{place.name}.png"), place.with_name(f"{place.name}.txt")
        self.driver.save_screenshot(str(picture))
        said.write_text("\n".join([self.driver.current_url, *(str(row) for row in self.console)]) + "\n")
        wrong = result.failures if result.failures and result.failures[-1][0] is self else result.errors
        if wrong:
            test, why = wrong[-1]
            wrong[-1] = (test, f"{why}\nThe page and its console: {picture}, {said.name}")

    def until(self, ready, what=""):
        """Wait for a condition; an element that went away while it was looked at is looked for again."""

        def settled(driver):
            try:
                return ready(driver)
            except WebDriverException as wrong:
                # The driver has more than one name for an element of a page that was left.
                if isinstance(wrong, TimeoutException) or not GONE.search(str(wrong.msg)):
                    raise
                return False

        end, pause = time.monotonic() + PATIENCE, LOOK_AGAIN
        while not (found := settled(self.driver)):
            if time.monotonic() > end:
                raise TimeoutException(what)
            time.sleep(pause)
            pause = min(pause * SLOWER, SELDOM)
        return found

    def drop(self, path, selector):
        """Drop a file or a folder from outside of the browser."""
        box = self.one(selector).rect
        spot = {"x": box["x"] + box["width"] / 2, "y": box["y"] + box["height"] / 2}
        held = {"items": [], "files": [str(path)], "dragOperationsMask": 1}
        for kind in ("dragEnter", "dragOver", "drop"):
            self.driver.execute_cdp_cmd("Input.dispatchDragEvent", {"type": kind, "data": held, **spot})

    def slow_down(self, seconds):
        """Let each answer of the server take so much longer."""
        line = {"offline": False, "latency": 1000 * seconds, "downloadThroughput": -1, "uploadThroughput": -1}
        self.driver.execute_cdp_cmd("Network.enable", {})
        self.driver.execute_cdp_cmd("Network.emulateNetworkConditions", line)

    def all(self, selector):
        return self.driver.find_elements(By.CSS_SELECTOR, selector)

    def one(self, selector, text=None):
        def find(driver):
            if text is None:
                return next(iter(self.all(selector)), None)
            return driver.execute_script(FIND, selector, text)

        return self.until(find, f"{selector} with {text!r}")

    def text(self, selector):
        """What the first such element shows, once it is there."""

        def read(driver):
            found = driver.execute_script(READ, selector)
            return None if found is None else [found]

        return self.until(read, selector)[0]

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
                # A person scrolls it out from under what lies over it.
                self.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", found)
                return False
            return True

        self.until(clicked, f"a click on {selector} with {text!r}")

    def see(self, text, within="body"):
        try:
            self.until(lambda _: text in self.text(within))
        except TimeoutException:
            self.fail(f"{text!r} is not in {within}: {self.text(within)[:1500]!r}")

    def open(self, path):
        self.driver.get(self.live_server_url + path)
        self.one(".stage")

    def keys(self, *keys):
        self.one("body").send_keys(*keys)

    def retype(self, field, text):
        field.send_keys(Keys.CONTROL, "a")
        field.send_keys(text)

    def breaks_no_rule(self, what):
        """No violation on the page as it stands, once its movements have ended."""
        self.until(
            lambda d: d.execute_script("return document.getAnimations().every(one => one.playState !== 'running')")
        )
        self.driver.execute_script(AXE)
        for rule, help_text, nodes in self.driver.execute_async_script(RUN, RULES):
            with self.subTest(view=what, rule=rule):
                self.fail(f"{what}: {rule}: {help_text}\n" + "\n".join(node[:200] for node in nodes[:4]))

    def work(self):
        """Let a worker do what is queued, and see that it is done."""
        end = time.monotonic() + 3
        # What was clicked may not have got there yet; or it was quick, and is done.
        while not Job.objects.exclude(state=Job.DONE).exists() and time.monotonic() < end:
            time.sleep(0.05)
        newest = Job.objects.order_by("-pk").first()
        call_command("work", once=True)
        newest.refresh_from_db()
        self.assertEqual(newest.state, Job.DONE, f"{newest.title}: {newest.message}")

    def number(self, text):
        return Question.objects.get(text=text).pk


def _wrong(result: unittest.TestResult | None) -> int:
    return len(result.failures) + len(result.errors) if result else 0


def forget_pictures() -> None:
    """Take away what earlier runs left."""
    shutil.rmtree(FAILURES, ignore_errors=True)
