"""Take the pictures of the main views from a running demo.

Usage: .venv/bin/python docs/screenshots/take.py SIGN-IN-LINK [FOLDER] [NAME ...]
"""

import sys
import time
from pathlib import Path
from urllib.parse import urlsplit

from selenium import webdriver
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select, WebDriverWait

FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --hide-scrollbars --force-device-scale-factor=1"
).split()
PINNED = "What stops the gondola in a gale?"
VIEWS = {
    "fused-pinned": ("/line/fused", PINNED),
    "documents": ("/line/documents", None),
    "chunks": ("/line/chunks", None),
    "by-picture": ("/line/fused", None),
    "sparse-pinned": ("/line/sparse", "My puppy panics in moving vehicles, any advice?"),
    "dense-speed": ("/line/dense", None),
    "reranked": ("/line/reranked", None),
    "context-pinned": ("/line/context", "What does alarm E-417 mean?"),
    "trials": ("/trials", None),
    "sweeps": ("/trials/sweeps", None),
    "gates": ("/trials/gates", None),
    "recipe": ("/line/context", PINNED),
    "begin": ("/begin", None),
    "labelling": ("/line/documents", PINNED),
    "patches": ("/line/dense", None),
    "suggested": ("/questions/suggested", None),
    "judging": ("/questions/judging", None),
    "serve-watch": ("/serving", None),
    "serve-try": ("/serving/try", None),
}
# Views that show what the recipe in force does not have; each under another one, which is measured by then.
UNDER = {"sparse-pinned": "three-branch", "context-pinned": "three-branch"}
PUT_IN_FORCE = """
const [name, done] = arguments;
const asked = (path, more) => fetch("/api/" + path, more).then((answer) => answer.json());
(async () => {
  const [space] = await asked("workspaces");
  const recipes = await asked(`workspaces/${space.id}/recipes`);
  const before = recipes.find((one) => one.in_force);
  const wanted = recipes.filter((one) => one.name === name).sort((a, b) => b.version - a.version)[0];
  const headers = { "X-CSRFToken": (await asked("session")).token, "Content-Type": "application/json" };
  await fetch(`/api/workspaces/${space.id}/recipes/${wanted.id}/in-force`, { method: "POST", headers, body: "{}" });
  return before.name;
})().then(done);
"""


def press(text: str):
    """A step that presses the button with this text once it can be pressed."""
    path = f"//button[normalize-space()='{text}']"

    def step(driver, wait) -> None:
        wait.until(lambda d: d.find_element(By.XPATH, path).is_enabled())
        driver.find_element(By.XPATH, path).click()

    return step


def drafted(field: str, value: str):
    """A step that changes a field of the open editor and waits until its draft has been asked some questions."""

    def step(driver, wait) -> None:
        typed = wait.until(lambda d: d.find_element(By.ID, field))
        driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", typed)
        typed.send_keys(Keys.CONTROL, "a")
        typed.send_keys(value)
        wait.until(lambda d: "Delivered" in d.find_element(By.CSS_SELECTOR, ".draft-bar").text)
        time.sleep(12)

    return step


def measured(button: str, shown: str):
    """A step that has something measured where it is not yet; then it is shown."""
    # A side of the view may have the same name; what is pressed already is not it.
    named = f"//button[normalize-space()='{button}' and not(@aria-pressed)]"

    def step(driver, wait) -> None:
        wait.until(lambda d: d.find_elements(By.XPATH, named) or d.find_elements(By.CSS_SELECTOR, shown))
        for found in driver.find_elements(By.XPATH, named):
            found.click()
        WebDriverWait(driver, 600).until(lambda d: d.find_elements(By.CSS_SELECTOR, shown))

    return step


def keys(text: str):
    """A step that types keys at the page."""

    def step(driver, wait) -> None:
        driver.find_element(By.TAG_NAME, "body").send_keys(text)

    return step


def select(words: str):
    """A step that opens the document of the answer and selects words in it, as a drag of the mouse does."""

    def step(driver, wait) -> None:
        wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".answer-card .open"))[0].click()
        wait.until(lambda d: d.execute_script(SELECT, words))

    return step


SELECT = """
const words = arguments[0];
for (const block of document.querySelectorAll(".reader [data-at]")) {
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


def judge(driver, wait) -> None:
    """Make a pool where there is none, and look at its first passage."""
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".make-pool"))
    time.sleep(1)
    if not driver.find_elements(By.CSS_SELECTOR, "[data-pool]"):
        driver.find_element(By.CSS_SELECTOR, ".make-pool [type='submit']").click()
    path = "//button[normalize-space()='Judge' or normalize-space()='Go on judging']"
    WebDriverWait(driver, 300).until(lambda d: d.find_elements(By.XPATH, path))[0].click()
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".passage-alone"))


def sweep(driver, wait) -> None:
    """Sweep two settings where nothing has been swept, and look at what was found."""
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".sweeps h2"))
    time.sleep(1)
    if not driver.find_elements(By.CSS_SELECTOR, ".sweeps .entry"):
        for path in ("branches[0].k1", "fusion.weights.dense"):
            wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, "[aria-label='Add a setting']"))
            Select(driver.find_element(By.CSS_SELECTOR, "[aria-label='Add a setting']")).select_by_value(path)
        time.sleep(2)
        press("Begin")(driver, wait)
    WebDriverWait(driver, 600).until(lambda d: d.find_elements(By.CSS_SELECTOR, ".verdict"))


def gate(driver, wait) -> None:
    """Watch what is delivered, where nothing is watched."""
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".gates h2"))
    time.sleep(1)
    if not driver.find_elements(By.CSS_SELECTOR, ".gate"):
        press("Make the gate")(driver, wait)
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".gate .course"))


# A recipe that answers is published, asked the labelled questions, and liked four times of five.
SERVED = """
const [name, many, done] = arguments;
const asked = (path, more) => fetch("/api/" + path, more).then((answer) => answer.json());
(async () => {
  const [space] = await asked("workspaces");
  const at = `workspaces/${space.id}/published`;
  const headers = { "X-CSRFToken": (await asked("session")).token, "Content-Type": "application/json" };
  const post = (path, body) => fetch("/api/" + path, { method: "POST", headers, body: JSON.stringify(body) });
  let [made] = await asked(at);
  if (!made) {
    const recipe = (await asked(`workspaces/${space.id}/recipes`)).find((one) => one.name === name);
    made = await (await post(at, { name: "service-desk", recipe: recipe.id })).json();
    const questions = (await asked(`workspaces/${space.id}/questions`)).slice(0, many);
    for (const [place, { text }] of questions.entries()) {
      const found = await (await post(`${at}/${made.id}/ask`, { question: text })).json();
      await post(`${at}/${made.id}/say`, { request: found.request, thumb: place % 5 ? 1 : -1 });
    }
  }
})().then(() => done(true));
"""


def served(driver, wait) -> None:
    """Publish a recipe and have it asked, where nothing is served yet."""
    driver.set_script_timeout(300)
    driver.execute_async_script(SERVED, "three-branch", 60)
    driver.refresh()
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".served-head"))


def talk(driver, wait) -> None:
    """Ask what is published two questions."""
    for text in ("What does alarm E-417 mean?", "Who has to be told when a cabin is evacuated?"):
        typed = wait.until(lambda d: d.find_element(By.CSS_SELECTOR, ".talk-ask input"))
        before = len(driver.find_elements(By.CSS_SELECTOR, ".opinion"))
        typed.send_keys(text, Keys.ENTER)
        wait.until(lambda d, before=before: len(d.find_elements(By.CSS_SELECTOR, ".opinion")) > before)


def branch(name: str):
    """A step that looks at a branch by its id."""

    def step(driver, wait) -> None:
        press(name)(driver, wait)
        wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, "td .mono.added"))

    return step


def by_picture(driver, wait) -> None:
    """Cut a part out of a drawing of the second workspace and ask by it."""
    root = driver.current_url.split("/w/")[0]
    spaces = driver.execute_async_script(
        "const done = arguments[0]; fetch('/api/workspaces').then(r => r.json()).then(done)"
    )
    number = next(space["id"] for space in spaces if "drawings" in space["name"])
    driver.get(f"{root}/w/{number}/line/documents")
    wait.until(lambda d: d.find_elements(By.XPATH, "//*[text()='Tower book']"))[0].click()
    shown = wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".cut-out img"))[0]
    time.sleep(1)
    drag = ActionChains(driver).move_to_element_with_offset(shown, -150, -90).click_and_hold()
    drag.move_by_offset(180, 160).release().perform()
    press("Ask by this part")(driver, wait)
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".asked-by img"))
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, "[aria-label='Rank flow']"))


# Of the second workspace: its recipe of patches is put in force, and a question that a scanned sheet answers pinned.
PATCHED = """
const done = arguments[0];
const asked = (path, more) => fetch("/api/" + path, more).then((answer) => answer.json());
(async () => {
  const space = (await asked("workspaces")).find((one) => one.name.includes("drawings"));
  const recipes = await asked(`workspaces/${space.id}/recipes`);
  const wanted = recipes.find((one) => one.name === "pages by patches");
  const headers = { "X-CSRFToken": (await asked("session")).token, "Content-Type": "application/json" };
  await fetch(`/api/workspaces/${space.id}/recipes/${wanted.id}/in-force`, { method: "POST", headers, body: "{}" });
  const questions = await asked(`workspaces/${space.id}/questions`);
  return [space.id, questions.find((one) => one.text.startsWith("Where were the liners")).id];
})().then(done);
"""


def patched(driver, wait) -> None:
    """Pin a question of the second workspace under its recipe of patches."""
    root = driver.current_url.split("/w/")[0]
    space, question = driver.execute_async_script(PATCHED)
    driver.get(f"{root}/w/{space}/line/dense?q={question}")
    press("pages")(driver, wait)
    wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".shaded-page rect"))


STEPS = {
    "patches": (patched,),
    "sparse-pinned": (branch("expanded"),),
    "recipe": (press("Edit recipe"), drafted("select.k", "3")),
    "by-picture": (by_picture,),
    "dense-speed": (press("Speed and exactness"), measured("Measure structures", "[data-structure]")),
    "labelling": (keys("g"), select("Empty cabins swing more than full ones.")),
    "judging": (judge,),
    "sweeps": (sweep,),
    "gates": (gate,),
    "serve-watch": (served,),
    "serve-try": (served, talk),
}


def browser() -> webdriver.Chrome:
    options = webdriver.ChromeOptions()
    for flag in FLAGS:
        options.add_argument(flag)
    options.add_argument("--window-size=1280,800")
    options.binary_location = "/usr/bin/chromium"
    driver = webdriver.Chrome(options, webdriver.ChromeService("/usr/bin/chromedriver"))
    inner = driver.execute_script("return [innerWidth, innerHeight]")
    driver.set_window_size(1280 + 1280 - inner[0], 800 + 800 - inner[1])
    return driver


def main(link: str, folder: Path, names: list[str]) -> None:
    driver = browser()
    wait = WebDriverWait(driver, 20)
    try:
        driver.get(link)
        driver.find_element(By.TAG_NAME, "button").click()
        wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".question"))
        root = "{0.scheme}://{0.netloc}".format(urlsplit(link))
        numbers = {
            row["text"]: row["id"]
            for row in driver.execute_async_script(
                "const done = arguments[0];"
                "fetch('/api/workspaces').then(r => r.json())"
                ".then(w => fetch(`/api/workspaces/${w[0].id}/questions`)).then(r => r.json()).then(done)"
            )
        }
        for name in names or VIEWS:
            path, question = VIEWS[name]
            before = driver.execute_async_script(PUT_IN_FORCE, UNDER[name]) if name in UNDER else None
            driver.get(root + path + (f"?q={numbers[question]}" if question else ""))
            wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".body, .trials table, .begin, .part, .publish"))
            for step in STEPS.get(name, ()):
                step(driver, wait)
            wait.until(lambda d: not d.find_elements(By.CSS_SELECTOR, ".spinner-border"))
            time.sleep(1.2)
            driver.save_screenshot(str(folder / f"{name}.png"))
            if before is not None:
                driver.execute_async_script(PUT_IN_FORCE, before)
    finally:
        driver.quit()


if __name__ == "__main__":
    main(sys.argv[1], Path(sys.argv[2] if len(sys.argv) > 2 else Path(__file__).parent), sys.argv[3:])
