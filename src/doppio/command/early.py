"""At the first start of a demo: tables and documents, while models are made and loops are compiled beside it.

Run by the launcher as `python -m doppio.command.early`. The commands after it find all of it there; were this killed
half-way, they would go on where it was.
"""

import os

from doppio.command.paths import DEMO, VAR
from doppio.launch.cluster import Cluster


def main() -> None:
    cluster = Cluster(VAR)
    cluster.start()
    try:
        os.environ["DJANGO_SETTINGS_MODULE"] = "doppio.site.settings"
        import django

        django.setup()
        from django.core.management import call_command

        from doppio.command.demo_data import load_demo

        call_command("migrate", verbosity=0, interactive=False)
        print(load_demo(DEMO))
    finally:
        cluster.stop()


if __name__ == "__main__":
    main()
