"""Take the pictures of the main views from a running demo.

Usage: .venv/bin/python docs/screenshots/take.py SIGN-IN-LINK [FOLDER] [NAME ...]
"""

import sys
import time
from pathlib import Path
from urllib.parse import urlsplit

from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.support.ui import WebDriverWait

FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --hide-scrollbars --force-device-scale-factor=1"
).split()
PINNED = "What stops the gondola in a gale?"
VIEWS = {
    "fused-pinned": ("/line/fused", PINNED),
    "fused": ("/line/fused", None),
    "documents": ("/line/documents", None),
    "documents-pinned": ("/line/documents", PINNED),
    "chunks": ("/line/chunks", None),
    "chunks-pinned": ("/line/chunks", "What has to be checked before a line opens in the morning?"),
    "sparse": ("/line/sparse", None),
    "sparse-pinned": ("/line/sparse", "What does alarm E-417 mean?"),
    "dense": ("/line/dense", None),
    "dense-pinned": ("/line/dense", PINNED),
    "reranked": ("/line/reranked", None),
    "reranked-pinned": ("/line/reranked", PINNED),
    "context": ("/line/context", None),
    "context-pinned": ("/line/context", PINNED),
    "trials": ("/trials", None),
    "recipe": ("/line/fused", None),
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
            driver.get(root + path + (f"?q={numbers[question]}" if question else ""))
            wait.until(lambda d: d.find_elements(By.CSS_SELECTOR, ".body, .trials table"))
            if name == "recipe":
                wait.until(lambda d: d.find_element(By.XPATH, "//button[text()='Edit recipe']").is_enabled())
                driver.find_element(By.XPATH, "//button[text()='Edit recipe']").click()
            wait.until(lambda d: not d.find_elements(By.CSS_SELECTOR, ".spinner-border"))
            time.sleep(1.2)
            driver.save_screenshot(str(folder / f"{name}.png"))
    finally:
        driver.quit()


if __name__ == "__main__":
    main(sys.argv[1], Path(sys.argv[2] if len(sys.argv) > 2 else Path(__file__).parent), sys.argv[3:])
