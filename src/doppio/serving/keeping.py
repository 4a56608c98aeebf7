"""What is kept of what was served, and for how long."""

from datetime import datetime, timedelta

from doppio.serving.keys import fold
from doppio.serving.models import Opened, Published

# Figures of what was served; words go earlier where a person said so.
FIGURES_DAYS, PROCESS_DAYS = 90, 1
# Of a name that is asked very often, the latest figures; ten questions a second make as many in a day.
MOST_FIGURES = 1_000_000


def forget(sender: object, now: datetime, **_: object) -> None:
    """Throw away words and figures that have been kept long enough, and add up what keys asked on days gone by."""
    for published in Published.objects.all():
        old = published.served.filter(at__lt=now - timedelta(days=published.keep_days))
        old.exclude(question="").update(question="")
        published.served.filter(at__lt=now - timedelta(days=max(FIGURES_DAYS, published.keep_days))).delete()
        last = published.served.order_by("-at", "-pk").values_list("at", flat=True)[MOST_FIGURES - 1 : MOST_FIGURES]
        for at in last:
            published.served.filter(at__lt=at).delete()
    Opened.objects.filter(seen_at__lt=now - timedelta(days=PROCESS_DAYS)).delete()
    fold(now)
