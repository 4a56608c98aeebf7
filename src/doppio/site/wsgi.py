import contextlib
import gc
import logging
import os
import threading
import time

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "doppio.site.settings")
application = get_wsgi_application()
LOOKS, LOOK_AGAIN = 300, 2.0


def warm_up() -> None:
    """Open what is in force or served and ask each once, so that the first person does not wait for models to load.

    One that is still to come or is being built, as the demo's is at its first start, is asked when that is done.
    """
    from django.db import connection
    from django.db.models import Q

    from doppio.recipes.cutting import warm_up_rules
    from doppio.recipes.models import RecipeVersion
    from doppio.recipes.opened import NotBuilt, pipelines, warming
    from doppio.recipes.services import core_recipe
    from doppio.serving.models import Published

    try:
        # The door opens first.
        time.sleep(LOOK_AGAIN)
        warm: set[int] = set()
        for _ in range(LOOKS):
            served = Q(pk__in=Published.objects.values("recipe")) | Q(pk__in=Published.objects.values("second"))
            in_force = RecipeVersion.objects.filter(Q(in_force=True) | served).select_related("workspace")
            for recipe in [recipe for recipe in in_force if recipe.pk not in warm]:
                with contextlib.suppress(NotBuilt):
                    pipelines.get(recipe.workspace, core_recipe(recipe)).ask(warming(recipe.workspace))
                    warm.add(recipe.pk)
            if in_force and len(warm) >= len(in_force):
                break
            time.sleep(LOOK_AGAIN)
        warm_up_rules()
        # What is there by now stays: nobody looks through it for garbage again.
        gc.collect()
        gc.freeze()
    except Exception as error:
        # Whoever asks next is told by the API what is wrong.
        logging.getLogger(__name__).warning("not warmed up: %s", error)
    finally:
        connection.close()


def look_after_what_is_served() -> None:
    """Put released versions to work in this process, and write down what it served."""
    from doppio.serving.versions import look_after

    look_after()


if os.environ.get("DOPPIO_WARM_UP") == "1":
    threading.Thread(target=warm_up, daemon=True).start()
    threading.Thread(target=look_after_what_is_served, daemon=True).start()
