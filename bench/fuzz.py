"""Sends odd requests to every operation of the API, and odd files to every reader.

    .venv/bin/python bench/fuzz.py [--examples 200]

So many for each operation and each format; the checks send a few of each. Errors of ours, statuses that the schema
does not name and errors of another form are told.
"""

import argparse
import os
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("--examples", type=int, default=200)
    os.environ["DOPPIO_FUZZ"] = str(given.parse_args().examples)
    os.chdir(ROOT)
    os.execv("./doppio", ["./doppio", "test", "--no-lint", "tests.server.test_fuzz", "tests.core.test_fuzz_readers"])


if __name__ == "__main__":
    main()
