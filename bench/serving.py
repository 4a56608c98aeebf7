"""How many assistants a running Doppio serves at once: answers a second beside those of a single asker, and memory.

    DOPPIO_KEY=dop-... PYTHONPATH=src:. .venv/bin/python bench/serving.py http://127.0.0.1:8765 NAME QUESTIONS
        [--askers 50] [--minutes 10] [--alone 20]

QUESTIONS is a file of labelled questions, one JSON object a line, such as the demo's. One asks alone and all at once
in turn, told every minute: a machine that others use too is a tenth faster in one minute than in the next. Askers,
server and database share the cores. An asker alone who keeps more than one core busy, since a question is shared out
or what is left to do goes on beside the next, cannot be multiplied by all cores: what could be is told too.
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


def worked() -> float:
    """Seconds that the cores of this machine have worked."""
    user, nice, system, _, _, irq, soft, *_ = map(int, Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:])
    return (user + nice + system + irq + soft) / os.sysconf("SC_CLK_TCK")


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
    alone, rates, kept, told, wrong, memory = [], [], [], 0, 0, [resident()]
    for minute in range(1, int(np.ceil(chosen.minutes)) + 1):
        begun = worked()
        one = ask(chosen.alone, 1)
        alone.append(one["rate"])
        kept.append((worked() - begun) / chosen.alone)
        found = ask(60 * min(1, chosen.minutes - minute + 1), chosen.askers)
        rates.append(found["rate"])
        told, wrong = told + int(found["told"]), wrong + int(found["wrong"])
        memory.append(resident())
        print(
            f"minute {minute}: alone {one['rate']:.2f} a second, median {1e3 * one['median']:.1f} ms; all "
            f"{found['rate']:.2f} a second, median {found['median']:.2f} s, 95 % within {found['p95']:.2f} s, "
            f"memory {memory[-1]:.0f} MB; told to come back {told}, failed {wrong}",
            flush=True,
        )
    ratios = np.array(rates) / (CORES * np.array(alone))
    print(
        f"{chosen.askers} askers: {np.mean(rates):.2f} a second, {ratios.min():.2f} to {ratios.max():.2f}, median "
        f"{np.median(ratios):.2f} times {CORES} cores x a single asker (aim .9), who keeps {np.median(kept):.2f} "
        f"cores busy ({1 / np.median(kept):.2f} could be reached); failed {wrong}, told to come back "
        f"{told}; memory {memory[1]:.0f} to {memory[-1]:.0f} MB"
    )


if __name__ == "__main__":
    main()
