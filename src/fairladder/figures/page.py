"""The page that figures are drawn on: fonts, title, footer."""

import datetime as dt
import warnings
from collections.abc import Mapping, Sequence
from typing import Any

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.text import Text

from fairladder import palette, wording
from fairladder.errors import FairLadderWarning
from fairladder.figures import fonts
from fairladder.figures.fitting import fit_texts

Place = tuple[float, float, float, float]
_PLACE: Place = (0.17, 0.17, 0.78, 0.67)
#: 1280 × 800 points at this resolution.
_WIDTH, _HEIGHT, _DPI = 12.8, 8.0, 100
STYLE: Any = {
    "font.family": fonts.USUAL,
    "font.size": 11,
    "text.color": palette.INK,
    "axes.labelcolor": palette.FAINT,
    "axes.edgecolor": "#c8cdd3",
    "xtick.color": palette.INK,
    "ytick.color": palette.INK,
    "svg.hashsalt": "fairladder",
    "svg.fonttype": "none",
}


class PlainFigure(Figure):
    """A figure that shows texts literally (names may contain dollar signs, which are not formulas),
    in fonts that have their letters, and fits them.
    """

    def draw(self, renderer: Any) -> None:
        """Draw the figure. Warns of letters that no installed font has."""
        texts = self.findobj(Text)
        for text in texts:
            text.set_parse_math(False)
            if not text.get_text().isascii():
                text.set_fontfamily(fonts.families(text.get_text()))
        if lacking := fonts.missing(text.get_text() for text in texts):
            warnings.warn(lacking, FairLadderWarning, stacklevel=2)
        with warnings.catch_warnings():
            warnings.filterwarnings("ignore", "Glyph .* missing")  # reported above in one sentence
            fit_texts(self, renderer)
            super().draw(renderer)


def page(
    title: str,
    subtitle: str,
    facts: Mapping[str, Any] | None,
    ax: Axes | None = None,
    *,
    place: Place = _PLACE,
) -> tuple[Figure, Axes]:
    """Return a figure with title, subtitle, and the as-of date and rows in the footer; or the
    caller's own axes.

    ``place`` is the position of the axes on the page: left, bottom, width, height. The caller's
    axes get the title and subtitle above them, and no footer.
    """
    if ax is None:
        figure, (axes,) = pages(title, subtitle, facts, [place])
        return figure, axes
    _bare(ax)
    ax.set_title(
        f"{title}\n", loc="left", fontweight="bold", color=palette.INK, parse_math=False, wrap=True
    )
    ax.text(
        0,
        1.02,
        subtitle,
        transform=ax.transAxes,
        va="bottom",
        fontsize=9.5,
        color=palette.FAINT,
        parse_math=False,
    )
    whole = ax.get_figure(root=True)
    assert whole is not None
    return whole, ax


def _bare(axes: Axes) -> None:
    for side in axes.spines.values():
        side.set_visible(False)
    axes.tick_params(length=0)


def pages(
    title: str, subtitle: str, facts: Mapping[str, Any] | None, places: Sequence[Place]
) -> tuple[Figure, list[Axes]]:
    """Return a figure with several axes, at ``places`` (left, bottom, width, height as shares of
    the page).
    """
    with mpl.rc_context(STYLE):
        figure = PlainFigure(figsize=(_WIDTH, _HEIGHT), dpi=_DPI, facecolor=palette.PAPER)
        FigureCanvasAgg(figure)
        drawn = [figure.add_axes(place) for place in places]
    figure.text(0.04, 0.945, title, fontsize=17, fontweight="bold", color=palette.INK, va="center")
    figure.text(0.04, 0.895, subtitle, fontsize=11.5, color=palette.FAINT, va="center")
    if facts:
        day = dt.date.fromisoformat(facts["as_of"]) if facts["as_of"] else None
        as_of = wording.as_of_line(day, facts["as_of_from"])
        text = f"{as_of}. {wording.rows_read(facts['balance'])}. Source: {facts['source']}."
        figure.text(0.04, 0.035, text, fontsize=9.5, color=palette.FAINT, va="center")
    for axes in drawn:
        _bare(axes)
    return figure, drawn
