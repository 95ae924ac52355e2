"""Charts of the ledger, each with a small template of its own."""

from django import template

from vinter.web.ledger.looking_back import HEIGHT, MOST_OFF, Chart, YearSheet

register = template.Library()
EXAMPLE = 0.6  # chance of a clear sky with which a record is explained


@register.inclusion_tag("ledger/drawings/forecast.html")
def forecast_record(chart: Chart) -> dict[str, object]:
    """What forecasts said against what came."""
    levels = [(0, "100 %"), (HEIGHT / 2, "50 %"), (HEIGHT, "0 %")]
    return {"chart": chart, "levels": levels, "counts": chart.record.corrected(EXAMPLE)}  # type: ignore[union-attr]


@register.inclusion_tag("ledger/drawings/sky.html")
def sky_record(chart: Chart) -> dict[str, object]:
    """What plans assumed of the sky against what frames measured."""
    half = MOST_OFF / 2
    levels = [(HEIGHT * (0.5 - v / MOST_OFF / 2), f"{v:+.1f}" if v else "0") for v in (half, 0.0, -half)]
    return {"chart": chart, "levels": levels}


@register.inclusion_tag("ledger/drawings/year.html")
def shot_year(sheet: YearSheet) -> dict[str, object]:
    """A year at a site with the nights that were shot."""
    return {"sheet": sheet}
