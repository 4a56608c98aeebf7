"""At the first start of a demo: tables and documents, then their vectors, while models and loops are made beside it.

Run by the launcher as `python -m doppio.command.early TASK`. The commands after it find all of it there; were this
killed half-way, they would go on where it was.
"""

import os
import sys
from collections.abc import Callable

from doppio.command.paths import DEMO, VAR
from doppio.launch.cluster import Cluster


def documents() -> str:
    """Make the tables, and take the demo in."""
    from django.core.management import call_command

    from doppio.command.demo_data import load_demo

    call_command("migrate", verbosity=0, interactive=False)
    return load_demo(DEMO)


def vectors() -> str:
    """Cut the documents as the recipe in force does, and encode the chunks."""
    from doppio.command.demo_data import encode_in_force

    return encode_in_force()


TASKS: dict[str, Callable[[], str]] = {"documents": documents, "vectors": vectors}


def main(task: str) -> None:
    cluster = Cluster(VAR)
    cluster.start()
    try:
        os.environ["DJANGO_SETTINGS_MODULE"] = "doppio.site.settings"
        import django

        django.setup()
        print(TASKS[task]())
    finally:
        cluster.stop()


if __name__ == "__main__":
    main(sys.argv[1])
