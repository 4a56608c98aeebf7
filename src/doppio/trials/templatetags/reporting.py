"""Figures in a report, as the interface says them."""

from django import template

register = template.Library()


@register.filter
def score(value: float | None) -> str:
    """Three places without the nought before them; a dash where there is none."""
    return "–" if value is None else f"{value:.3f}".replace("0.", ".", 1) if abs(value) < 1 else f"{value:.3f}"


@register.filter
def signed(value: float) -> str:
    """The same with its sign."""
    return f"{'−' if value < 0 else '+'}{score(abs(value))}"


@register.filter
def percent(value: float) -> str:
    """A share in hundredths."""
    return f"{100 * value:.1f} %"
