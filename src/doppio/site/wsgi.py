import logging
import os
import threading

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "doppio.site.settings")
application = get_wsgi_application()


def warm_up() -> None:
    """Open the recipes in force and ask each once, so that the first person does not wait for models to load."""
    from django.db import connection

    from doppio.asking.models import RecipeVersion
    from doppio.asking.services import core_recipe, pipelines
    from doppio.indexing.cutting import warm_up_rules

    try:
        warm_up_rules()
        for recipe in RecipeVersion.objects.filter(in_force=True).select_related("workspace"):
            pipelines.get(recipe.workspace, core_recipe(recipe)).ask("warm up")
    except Exception as error:
        # Whoever asks next is told by the API what is wrong.
        logging.getLogger(__name__).warning("not warmed up: %s", error)
    finally:
        connection.close()


if os.environ.get("DOPPIO_WARM_UP") == "1":
    threading.Thread(target=warm_up, daemon=True).start()
