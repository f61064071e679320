"""Show an answer in a notebook: its finding, small formatted tables, and notes.

No colours of its own: text and lines take those of the notebook, so that it suits light and dark
themes.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from html import escape
from typing import TYPE_CHECKING, Any

from fairladder import wording
from fairladder.columns import Kind, kind_in

if TYPE_CHECKING:
    import pandas as pd

#: Maximum number of rows shown per table.
MOST_ROWS = 20
_TABLE = "border-collapse:collapse;margin:.4em 0 .6em;font-size:.92em"
_HEAD = "text-align:{side};font-weight:600;opacity:.75;padding:.2em .9em .2em 0;border-bottom:1px solid currentColor"
_CELL = "text-align:{side};padding:.15em .9em .15em 0;font-variant-numeric:tabular-nums"


@dataclass(frozen=True)
class Piece:
    """A table to show under its name. ``kind`` formats number columns that are not in the
    registry.
    """

    name: str
    frame: "pd.DataFrame"
    kind: Kind | None = None


def as_html(finding: str, pieces: Sequence[Piece], notes: Sequence[str] = ()) -> str:
    """Return the finding as a title, the first rows of each table, and the notes; every text is
    escaped.
    """
    parts = [f'<p style="font-weight:600;margin:.4em 0">{_text(finding)}</p>'] if finding else []
    parts += [_table(piece) for piece in pieces]
    parts += [
        f'<p style="opacity:.75;font-size:.9em;margin:.2em 0">{_text(note)}</p>' for note in notes
    ]
    return f"<div>{''.join(parts)}</div>"


def _text(text: str) -> str:
    return escape(wording.plain(text)).replace("\n", "<br>")


def _table(piece: Piece) -> str:
    frame = piece.frame.head(MOST_ROWS)
    numbers = [_is_number(frame.iloc[:, at]) for at in range(frame.shape[1])]
    sides = ["right" if number else "left" for number in numbers]
    head = "".join(
        f'<th style="{_HEAD.format(side=side)}">{_text(str(name).replace("_", " "))}</th>'
        for name, side in zip(frame.columns, sides, strict=True)
    )
    kinds = [_kind(piece, at) if number else None for at, number in enumerate(numbers)]
    rows = [
        "".join(
            f'<td style="{_CELL.format(side=side)}">{_text(_cell(value, kind))}</td>'
            for value, kind, side in zip(row, kinds, sides, strict=True)
        )
        for row in frame.astype(object).to_numpy()
    ]
    more = len(piece.frame) - len(frame)
    left = (
        f'<p style="opacity:.75;font-size:.9em;margin:0">{wording.counted(more, "more rows")}.</p>'
        if more > 0
        else ""
    )
    body = "".join(f"<tr>{row}</tr>" for row in rows)
    return (
        f'<table style="{_TABLE}"><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{left}'
    )


def _is_number(values: "pd.Series[Any]") -> bool:
    return values.dtype.kind in "iuf" or (
        len(values) > 0 and all(isinstance(v, Decimal) for v in values)
    )


def _cell(value: Any, kind: Kind | None) -> str:
    return f"{value:,}" if isinstance(value, Decimal) else wording.cell(value, kind)


def _kind(piece: Piece, at: int) -> Kind | None:
    return kind_in(piece.frame, piece.frame.columns[at]) or piece.kind
