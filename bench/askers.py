"""How many questions a running Doppio answers at once: answers a second, and how long one takes, by askers at once.

    .venv/bin/python bench/askers.py SIGN-IN-LINK [--askers 1 8 50] [--seconds 15] [--recipe NUMBER]

Each asker asks a question of the workspace's own after another. One that is told to come back does so then.
"""

import argparse
import http.cookiejar
import itertools
import json
import re
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from urllib.parse import urlsplit

import numpy as np


def sign_in(link: str) -> dict[str, str]:
    """Use a link up; returns the headers that requests go with."""
    jar = http.cookiejar.CookieJar()
    browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
    token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', browser.open(link).read().decode())[1]
    browser.open(link, data=f"csrfmiddlewaretoken={token}".encode())
    parts = urlsplit(link)
    session = json.load(browser.open(f"{parts.scheme}://{parts.netloc}/api/session"))
    cookies = "; ".join(f"{cookie.name}={cookie.value}" for cookie in jar)
    return {"Cookie": cookies, "X-CSRFToken": session["token"], "Content-Type": "application/json"}


def ask_for(
    seconds: float, askers: int, url: str, headers: dict, questions: list[str], body_of: Callable[[str], dict]
) -> dict:
    """Have so many ask at once for so long; `body_of` says what is sent for a question."""
    end = time.monotonic() + seconds
    took: list[float] = []
    told, wrong = [0], [0]
    texts = itertools.cycle(questions)
    lock = threading.Lock()

    def one() -> None:
        while time.monotonic() < end:
            with lock:
                text = next(texts)
            body = json.dumps(body_of(text)).encode()
            begun = time.monotonic()
            try:
                with urllib.request.urlopen(urllib.request.Request(url, body, headers), timeout=120) as answer:
                    answer.read()
                with lock:
                    took.append(time.monotonic() - begun)
            except urllib.error.HTTPError as error:
                with lock:
                    (told if error.code == 429 else wrong)[0] += 1
                error.read()
                time.sleep(min(float(error.headers.get("Retry-After", 1)), max(end - time.monotonic(), 0)))

    begun = time.monotonic()
    threads = [threading.Thread(target=one) for _ in range(askers)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    lasted = time.monotonic() - begun
    middle, late = np.percentile(took, [50, 95]) if took else (np.nan, np.nan)
    return {"rate": len(took) / lasted, "median": middle, "p95": late, "told": told[0], "wrong": wrong[0]}


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("link")
    given.add_argument("--askers", type=int, nargs="*", default=[1, 8, 50])
    given.add_argument("--seconds", type=float, default=15)
    given.add_argument("--recipe", type=int)
    chosen = given.parse_args()
    headers = sign_in(chosen.link)
    parts = urlsplit(chosen.link)
    root = f"{parts.scheme}://{parts.netloc}/api/workspaces"

    def get(url: str) -> list:
        return json.load(urllib.request.urlopen(urllib.request.Request(url, headers=headers)))

    place = get(root)[0]["id"]
    questions = [row["text"] for row in get(f"{root}/{place}/questions")]
    recipes = get(f"{root}/{place}/recipes")
    wanted = [row for row in recipes if row["in_force"] or row["name"] == "sparse alone"]
    for row in [row for row in recipes if row["id"] == chosen.recipe] or wanted:
        print(f"{row['name']} v{row['version']}")

        def body_of(text: str, recipe: int = row["id"]) -> dict:
            return {"text": text, "recipe": recipe}

        ask_for(2, 1, f"{root}/{place}/ask", headers, questions, body_of)
        for askers in chosen.askers:
            found = ask_for(chosen.seconds, askers, f"{root}/{place}/ask", headers, questions, body_of)
            print(
                f"  {askers:3} at once: {found['rate']:6.1f} answers a second, median {found['median']:.3f} s, "
                f"95 % within {found['p95']:.3f} s; told to come back {found['told']}, failed {found['wrong']}"
            )


if __name__ == "__main__":
    main()
