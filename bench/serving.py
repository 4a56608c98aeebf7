"""How many assistants a running Doppio serves at once: answers a second beside those of a single asker, and memory.

    DOPPIO_KEY=dop-... PYTHONPATH=src:. .venv/bin/python bench/serving.py http://127.0.0.1:8765 NAME QUESTIONS
        [--askers 50] [--minutes 10] [--alone 20]

QUESTIONS is a file of labelled questions, one JSON object a line, such as the demo's. First one asks alone, then all
at once for so long, told every minute.
"""

import argparse
import itertools
import json
import os
from pathlib import Path

import numpy as np
from bench.askers import ask_for

from doppio.core.cores import cores

CORES = cores()
SERVERS = "web server"


def resident() -> float:
    """Megabytes that the processes which serve have in memory, what they share counted once for each."""
    total = 0
    for process in Path("/proc").glob("[0-9]*"):
        try:
            if (process / "comm").read_text().startswith(SERVERS):
                lines = (process / "smaps_rollup").read_text().splitlines()
                total += next(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
        except OSError:
            continue
    return total / 1024


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("address")
    given.add_argument("name")
    given.add_argument("questions", type=Path)
    given.add_argument("--askers", type=int, default=50)
    given.add_argument("--minutes", type=float, default=10)
    given.add_argument("--alone", type=float, default=20, help="seconds that one asks alone")
    chosen = given.parse_args()
    texts = [json.loads(line)["text"] for line in chosen.questions.read_text().splitlines() if line.strip()]
    headers = {"Authorization": f"Bearer {os.environ['DOPPIO_KEY']}", "Content-Type": "application/json"}
    url = f"{chosen.address}/serve/{chosen.name}/search"

    numbers = itertools.count(1)

    def body_of(text: str) -> dict[str, str]:
        # Each is another question, so that no scores of it are at hand.
        return {"question": f"{text} {next(numbers)}"}

    def ask(seconds: float, askers: int) -> dict[str, float]:
        return ask_for(seconds, askers, url, headers, texts, body_of)

    ask(3, 2)
    alone = ask(chosen.alone, 1)
    print(f"alone: {alone['rate']:.2f} a second, median {1e3 * alone['median']:.0f} ms", flush=True)
    rates, told, wrong, memory = [], 0, 0, [resident()]
    for minute in range(1, int(np.ceil(chosen.minutes)) + 1):
        found = ask(60 * min(1, chosen.minutes - minute + 1), chosen.askers)
        rates.append(found["rate"])
        told, wrong = told + int(found["told"]), wrong + int(found["wrong"])
        memory.append(resident())
        print(
            f"minute {minute}: {found['rate']:.2f} a second, median {found['median']:.2f} s, 95 % within "
            f"{found['p95']:.2f} s, memory {memory[-1]:.0f} MB; told to come back {told}, failed {wrong}",
            flush=True,
        )
    ratio = float(np.mean(rates)) / (CORES * alone["rate"])
    print(
        f"{chosen.askers} askers: {np.mean(rates):.2f} a second, {ratio:.2f} times {CORES} cores x a single asker "
        f"(aim .9); failed {wrong}, told to come back {told}; memory {memory[1]:.0f} to {memory[-1]:.0f} MB"
    )


if __name__ == "__main__":
    main()
