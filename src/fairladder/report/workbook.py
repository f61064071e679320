"""Write the report as a workbook: a summary with formulas, and a sheet for each part."""

import datetime as dt
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from importlib.metadata import version
from pathlib import Path
from typing import Any

import pandas as pd
import xlsxwriter
from xlsxwriter.utility import xl_col_to_name

from fairladder import palette, wording
from fairladder.book.spend import buyers
from fairladder.columns import CARRIED, Column, is_money, is_share, meant
from fairladder.frames import rows_of
from fairladder.output.large_sheets import LargeSheet, fill_sheets, is_large, leave_rows, objects
from fairladder.output.workbook import MOST_ROWS, SheetLook, write_cell
from fairladder.report.answer import answer_of, no_advice
from fairladder.report.contents import Contents
from fairladder.report.figures import rung_lines, worth_lines
from fairladder.report.page import Made
from fairladder.scratch import a_scratch_folder

_WIDEST, _LOOKED_AT = 46, 500
#: Columns of the customers that come first and are printed, and those on the sheet of actions.
_FIRST = (
    "customer", "name", "segment", "stance", "orders", "last_order", "spend", "average_order_value",
    "expected_value",
)  # fmt: skip
_LISTED = ("customer", "name", "segment", "orders", "last_order", "spend", "expected_value")
#: Long texts are wrapped in tables with fewer rows than this.
_FEW = 200
_PLAIN = {"strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False}


@dataclass
class _Book:
    """The workbook being written, its formats, and the locations of the tables whose columns
    formulas sum.
    """

    file: Any
    look: SheetLook
    large: list[LargeSheet] = field(default_factory=list)
    """Sheets whose rows are written when the workbook is closed."""
    places: dict[str, list[tuple[str, dict[str, int], int, int]]] = field(default_factory=dict)
    """Table → for each piece its sheet, column → position, and first and last row (from 1)."""

    def __post_init__(self) -> None:
        made = self.file.add_format
        self.formats: Mapping[str, Any] = {
            "title": made({"bold": True, "font_size": 15}),
            "head": made({"bold": True, "bottom": 1, "text_wrap": True, "valign": "top"}),
            "bold": made({"bold": True}), "faint": made({"font_color": palette.FAINT}),
            "text": made({"text_wrap": True, "valign": "top"}),
            "day": made({"num_format": self.look.days}),
            "share": made({"num_format": "0.0%"}), "money": made({"num_format": self.look.money}),
            "count": made({"num_format": "#,##0"}), "top": made({"bold": True, "valign": "top"}),
            "money-sum": made({"num_format": self.look.money, "bold": True, "top": 1}),
            "count-sum": made({"num_format": "#,##0", "bold": True, "top": 1}),
            "share-sum": made({"num_format": "0.0%", "bold": True, "top": 1}),
            "sum": made({"bold": True, "top": 1}),
        }  # fmt: skip

    def sheet(self, name: str) -> Any:
        """Add a sheet."""
        made = self.file.add_worksheet(name)
        made.set_default_row(15)
        made.set_landscape()
        made.set_paper(9)  # A4
        made.fit_to_pages(1, 0)
        return made

    def sums(self, table: str, column: str) -> str:
        """Return a formula that sums a column of a table over all its sheets."""
        parts = []
        for sheet, columns, first, last in self.places[table]:
            letter = xl_col_to_name(columns[column])
            parts.append(f"SUM('{sheet}'!${letter}${first}:${letter}${last})")
        return "=" + "+".join(parts)


def save_workbook(about: Contents, path: Path, made: Made, title: str) -> None:
    """Write the workbook: twelve sheets, or more if a table has more rows than a sheet can
    contain.
    """
    look = SheetLook(about.scheme.money.decimals, about.currency)
    with a_scratch_folder() as scraps:
        with xlsxwriter.Workbook(str(path), {**_PLAIN, "tmpdir": str(scraps)}) as file:
            file.set_properties(
                {"title": title, "created": dt.datetime(2000, 1, 1, tzinfo=dt.UTC)}
            )  # same contents, same bytes
            book = _Book(file, look)
            summary = book.sheet("Summary")
            summary.fit_to_pages(1, 1)
            _table(book, "Actions", "actions", _lists(about), say="Nobody is to be contacted.")
            first = [c for c in _FIRST if c in about.customers] + list(about.scheme.tiers)
            rest = [c for c in about.customers if c not in first]
            _table(
                book, "Customers", "customers", about.customers[first + rest], printed=len(first)
            )
            _table(
                book,
                "Segments",
                "segments",
                about.segments.merge(about.rules[["segment", "condition"]], on="segment"),
            )
            _table(book, "Ladders and tiers", "rungs", _rungs(about))
            _table(
                book,
                "Growth",
                "growth",
                about.growth.drop(columns=["period"]).rename(columns={"label": "period"}),
            )
            _cohorts(book, about)
            _table(book, "Value", "value", _value(about))
            _table(book, "Changes", "changes", _changes(about), say=about.gaps.get("changes", ""))
            _table(book, "Findings", "findings", about.checked.frame)
            _table(
                book, "Set aside", "set-aside", about.checked.set_aside, say="No row is set aside."
            )
            _settings(book, about, made)
            _summary(book, summary, about, title)
            summary.activate()
        fill_sheets(path, book.large)


def _pieces(table: pd.DataFrame) -> Iterator[pd.DataFrame]:
    """Split the table over sheets, leaving space for the header and the sums."""
    most = MOST_ROWS - 2
    for begin in range(0, max(len(table), 1), most):
        yield table.iloc[begin : begin + most]


def _lists(about: Contents) -> pd.DataFrame:
    """Return the customers of each action, best action first, largest spend first."""
    if no_advice(about):
        return pd.DataFrame(columns=["action", *_LISTED])
    titles = {a.name: f"{n}. {a.title}" for n, a in enumerate(about.plan.actions, start=1)}
    there = [c for c in _LISTED if c in about.customers]
    actions = about.customers["customer"].map(about.plan.group_of).map(titles)
    lists = about.customers[there].assign(**{"#": actions}).dropna(subset="#")
    lists = lists.sort_values(["#", "spend", "customer"], ascending=[True, False, True])
    lists.insert(0, "action", lists.pop("#"))
    return lists.reset_index(drop=True)


def _table(
    book: _Book, name: str, kind: str, table: pd.DataFrame, say: str = "", printed: int = 0
) -> None:
    """Write the table on its own sheet (or several), with notes on the header, a filter, and sums
    of columns that add up. Only the first ``printed`` columns are printed; all if it is 0.
    """
    places = book.places.setdefault(kind, [])
    for n, piece in enumerate(_pieces(table), start=1):
        title = name if n == 1 else f"{name} {n}"
        sheet = book.sheet(title)
        names = [str(c) for c in piece.columns]
        known = [None if c in table.attrs.get(CARRIED, ()) else meant(kind, c) for c in names]
        shown = [_format(book, table, c, k) for c, k in zip(names, known, strict=True)]
        sheet.freeze_panes(1, 1)
        sheet.repeat_rows(0)
        if printed:
            sheet.print_area(0, 0, len(piece) + 1, printed - 1)
        for at, (column, means) in enumerate(zip(names, known, strict=True)):
            texts = [column, *map(str, piece[piece.columns[at]].head(_LOOKED_AT).dropna())]
            sheet.set_column(at, at, min(max(map(len, texts)) + 3, _WIDEST))
            sheet.write_string(0, at, column, book.formats["head"])
            if means is not None:
                empty = f" Empty {means.nulls}." if means.nulls else ""
                sheet.write_comment(
                    0, at, f"{means.sentence}{empty}", {"x_scale": 1.6, "author": "Fair Ladder"}
                )
            if len(piece) < _FEW and max(map(len, texts)) > _WIDEST and shown[at] is None:
                shown[at] = book.formats["text"]
        large = is_large(piece)
        if large:
            book.large.append(leave_rows(book.file, sheet, piece, shown, book.formats["day"]))
        else:
            _cells(book, sheet, piece, shown)
        if not len(piece):
            sheet.write_string(1, 0, say or "Nothing to show.", book.formats["faint"])
            continue
        places.append((title, {c: i for i, c in enumerate(names)}, 2, len(piece) + 1))
        _sums(book, sheet, piece, known)
        if large or len({c.casefold() for c in names}) < len(names):
            sheet.autofilter(0, 0, len(piece), len(names) - 1)
        else:
            style = {
                "style": "Table Style Light 1",
                "columns": [{"header": c, "header_format": book.formats["head"]} for c in names],
            }
            sheet.add_table(0, 0, len(piece), len(names) - 1, style)


def _format(book: _Book, table: pd.DataFrame, column: str, known: Column | None) -> Any:
    if is_money(table, column) or (known is not None and known.kind == "money"):
        return book.formats["money"]
    if is_share(table, column) or (known is not None and known.kind == "share"):
        return book.formats["share"]
    return book.formats["count"] if known is not None and known.kind == "count" else None


def _cells(book: _Book, sheet: Any, piece: pd.DataFrame, shown: Sequence[Any]) -> None:
    """Write all cells; rows with wrapped text are as high as needed."""
    wrapped = [at for at, look in enumerate(shown) if look is book.formats["text"]]
    columns = [objects(piece.iloc[:, at]) for at in range(piece.shape[1])]
    known = [piece.iloc[:, at].notna().tolist() for at in range(piece.shape[1])]
    for row in range(len(piece)):
        if wrapped:
            longest = max((len(str(columns[at][row])) for at in wrapped), default=0)
            sheet.set_row(row + 1, 15 * (1 + longest // (_WIDEST - 4)))
        for at, column in enumerate(piece.columns):
            if known[at][row]:
                cell = columns[at][row]
                write_cell(sheet, row, at, column, cell, shown[at], book.formats["day"])


def _sums(book: _Book, sheet: Any, piece: pd.DataFrame, known: Sequence[Column | None]) -> None:
    """Write a row of sums below the table, as formulas with their values, over the rows that a
    filter shows.
    """
    row, first = len(piece) + 1, True
    for at, means in enumerate(known):
        if means is None or not means.adds_up:
            continue
        if first:
            count = f'="sum of "&SUBTOTAL(103,A2:A{row})&" rows"'
            sheet.write_formula(row, 0, count, book.formats["sum"], f"sum of {len(piece)} rows")
            first = False
        letter = xl_col_to_name(at)
        kind = f"{means.kind}-sum" if f"{means.kind}-sum" in book.formats else "sum"
        value = float(piece.iloc[:, at].sum())
        sheet.write_formula(
            row, at, f"=SUBTOTAL(109,{letter}2:{letter}{row})", book.formats[kind], value
        )


def _rungs(about: Contents) -> pd.DataFrame:
    """Return every rung of the three scores and every tier: its values, its customers, and their
    spend.
    """
    lines = [
        (name.removesuffix("_score"), f"rung {rung}", what, n, float(spend))
        for name, rows in rung_lines(about).items()
        for rung, what, n, spend in rows
    ]
    lines += [(t.tier, t.label, "", int(t.customers), float(t.spend)) for t in rows_of(about.tiers)]
    return pd.DataFrame(lines, columns=["ladder", "rung", "holds", "customers", "spend"])


def _value(about: Contents) -> pd.DataFrame:
    """Return the value of a customer, and the test of the forecast: one figure per row."""
    money = about.currency or "the orders' currency"
    lines: list[tuple[Any, ...]] = [
        ("worth", name, value, *(ends or (None, None)), money, of)
        for name, value, ends, _, of in worth_lines(about)
    ]
    if about.forecast is not None and about.forecast.backtest is not None:
        tested = about.forecast.backtest
        for t in rows_of(tested.frame):
            figures = [
                ("expected orders", t.orders, "orders"),
                ("actual orders", t.actual_orders, "orders"),
                ("forecast ÷ actual − 1", t.total_error, "0 is right"),
                ("error per customer", t.error, "orders"),
                ("customers within their 80 % range", t.coverage, "0 to 1"),
            ]
            of = f"trained on data up to {tested.split}, tested up to {tested.through}"
            lines += [
                ("test", f"{t.method}: {what}", figure, None, None, unit, of)
                for what, figure, unit in figures
            ]
    table = pd.DataFrame(lines, columns=["part", "figure", "value", "low", "high", "unit", "basis"])
    return table.astype({"value": float, "low": float, "high": float})


def _changes(about: Contents) -> pd.DataFrame:
    if about.changes is None:
        return pd.DataFrame(
            {
                "from_segment": [],
                "to_segment": [],
                "customers": [],
                "spend_before": [],
                "spend_after": [],
            }
        )
    return about.changes.frame


def _cohorts(book: _Book, about: Contents) -> None:
    wide = about.cohorts.wide()
    sheet = book.sheet("Cohorts")
    sheet.freeze_panes(1, 2)
    sheet.set_column(0, 0, 14)
    for at, text in enumerate(["cohort", *map(str, wide.columns)]):
        sheet.write_string(0, at, text, book.formats["head"])
    sheet.write_comment(
        0,
        0,
        f"The {about.cohorts.period} of the first purchase; then its size, and the share "
        f"active this many {about.cohorts.period}s after.",
    )
    for row, (name, cells) in enumerate(wide.iterrows(), start=1):
        sheet.write_string(row, 0, str(name))
        for at, cell in enumerate(cells, start=1):
            if not wording.missing(cell):
                sheet.write_number(
                    row, at, float(cell), book.formats["count" if at == 1 else "share"]
                )
    if wide.shape[1] > 2:
        scale = {
            "type": "2_color_scale",
            "min_color": palette.PAPER,
            "max_color": palette.SHADES[3],
            "min_type": "num",
            "min_value": 0,
        }
        sheet.conditional_format(1, 3, len(wide), wide.shape[1], scale)


def _settings(book: _Book, about: Contents, made: Made) -> None:
    sheet = book.sheet("Settings")
    sheet.set_column(0, 0, 28)
    sheet.set_column(1, 1, 100)
    digests = "; ".join(f"{name} {digest}" for name, digest in made.digests.items())
    own = [] if about.pseudonyms else [
        ("command", made.command), ("SHA-256 of the files read", digests),
        *((f"[{part}]", json.dumps(keys, ensure_ascii=False, default=str)) for part,
        keys in about.scheme.settings().items()),
    ]  # fmt: skip
    rows = [
        *own, ("version", f"fairladder {version('fairladder')}"),
        ("source", str(about.facts["source"])),
        ("as-of date", wording.as_of_line(about.as_of, about.facts["as_of_from"])),
        ("rows", wording.rows_read(about.facts["balance"])),
        *((f"note {n}", note) for n, note in enumerate(about.notes, start=1)),
    ]  # fmt: skip
    for row, (name, text) in enumerate(rows):
        sheet.set_row(row, 15 * (1 + len(text) // 95))
        sheet.write_string(row, 0, name, book.formats["top"])
        sheet.write_string(row, 1, text, book.formats["text"])


def _summary(book: _Book, sheet: Any, about: Contents, title: str) -> None:
    """Write the key figures, the answer, totals as formulas over the other sheets, and two charts
    of the spreadsheet's own.
    """
    formats = book.formats
    sheet.hide_gridlines(2)
    sheet.set_portrait()
    sheet.set_column(0, 0, 44)
    sheet.set_column(1, 1, 14)
    sheet.set_column(2, 2, 62)
    sheet.write_string(0, 0, title, formats["title"])
    read = wording.rows_read(about.facts["balance"])
    under = f"{wording.as_of_line(about.as_of, about.facts['as_of_from'])}. {read}. Source: {about.facts['source']}."
    sheet.write_string(1, 0, under, formats["faint"])
    key = about.key_figures
    sheet.write_string(2, 0, f"Key figures, {key.period}", formats["faint"])
    row = 3
    for figure in key.figures:
        change = f"{figure.change_in_words} on {key.compared}" if figure.change_in_words else ""
        sheet.write_string(row, 0, figure.name, formats["bold"])
        if not wording.missing(figure.value):
            sheet.write_number(row, 1, figure.value, formats[figure.kind])
        sheet.write_string(row, 2, change, formats["faint"])
        row += 1
    row += 1
    for line in answer_of(about):
        sheet.set_row(row, 15 * (1 + len(line.text) // 76))
        sheet.write_string(row, 0, line.heading, formats["top"])
        sheet.merge_range(row, 1, row, 2, "", formats["text"])
        sheet.write_string(row, 1, line.text.replace("`", ""), formats["text"])
        row += 1
    row += 1
    for name, formula, value, look, note in _totals(book, about, row):
        sheet.write_string(row, 0, name, formats["bold"])
        sheet.write_formula(row, 1, formula, formats[look], value)
        sheet.write_string(row, 2, note, formats["faint"])
        row += 1
    sheets = [s for s, *_ in book.places["customers"]]
    if len(sheets) > 1:
        sheet.write_string(
            row,
            0,
            f"The customers are on {len(sheets)} sheets, since one holds {MOST_ROWS - 2:,}.",
            formats["faint"],
        )
        row += 1
    _charts(book, sheet, about, row + 1)


def _totals(book: _Book, about: Contents, row: int) -> list[tuple[str, str, float, str, str]]:
    """Return name, formula, value, format and note of each; ``row`` is the first one's, from 0."""
    frame = about.customers
    people = "+".join(
        f"ROWS('{s}'!$A${first}:$A${last})" for s, _, first, last in book.places["customers"]
    )
    orders, spend = int(frame["orders"].sum()), float(frame["spend"].sum())
    bought = len(buyers(frame))
    with_one = "+".join(
        f"COUNTIF('{s}'!${xl_col_to_name(c['orders'])}${a}:${xl_col_to_name(c['orders'])}${b},\">0\")"
        for s, c, a, b in book.places["customers"]
    )
    return [
        ("customers", f"={people}", len(frame), "count", "rows of the sheet Customers"),
        ("customers with a purchase", f"={with_one}", bought, "count", "those with orders above 0"),
        ("orders", book.sums("customers", "orders"), orders, "count", "sum of orders"),
        ("spend", book.sums("customers", "spend"), spend, "money", "sum of spend"),
        ("spend per order", f"=B{row + 4}/B{row + 3}", spend / orders, "money",
        "the two above divided"),
        ("spend per customer", f"=B{row + 4}/B{row + 2}", spend / bought, "money",
        "spend ÷ customers with a purchase"),
    ]  # fmt: skip


def _charts(book: _Book, sheet: Any, about: Contents, row: int) -> None:
    (name, at, first, last), *_ = book.places["segments"]
    share = book.file.add_chart({"type": "bar"})
    for column, words, colour in (
        ("spend_share", "spend share", palette.STANCE_COLOURS["keep"]),
        ("customer_share", "customer share", palette.SHADES[2]),
    ):
        place = at[column]
        share.add_series({
            "name": words, "categories": [name, first - 1, at["segment"], last - 1, at["segment"]],
            "values": [name, first - 1, place, last - 1, place], "fill": {"color": colour},
            "gap": 60,
        })  # fmt: skip
    share.set_title(
        {"name": "Share of spend and of customers by segment", "name_font": {"size": 12}}
    )
    share.set_y_axis({"reverse": True, "num_font": {"size": 10}})
    share.set_x_axis(
        {
            "num_format": "0%",
            "major_gridlines": {"visible": True, "line": {"color": palette.SHADES[1]}},
        }
    )
    share.set_legend({"position": "bottom"})
    share.set_size({"width": 760, "height": 360})
    sheet.insert_chart(row, 0, share)
    (name, at, first, last), *_ = book.places["growth"]
    grown = book.file.add_chart({"type": "column", "subtype": "stacked"})
    for column, words, colour in (
        ("new_revenue", "new revenue", palette.STANCE_COLOURS["welcome"]),
        ("repeat_revenue", "repeat revenue", palette.STANCE_COLOURS["keep"]),
    ):
        place = at[column]
        grown.add_series({
            "name": words, "categories": [name, first - 1, at["period"], last - 1, at["period"]],
            "values": [name, first - 1, place, last - 1, place], "fill": {"color": colour},
            "gap": 40,
        })  # fmt: skip
    grown.set_title(
        {"name": f"Revenue by {about.period}: first and repeat orders", "name_font": {"size": 12}}
    )
    grown.set_y_axis(
        {
            "num_format": "#,##0",
            "major_gridlines": {"visible": True, "line": {"color": palette.SHADES[1]}},
        }
    )
    grown.set_legend({"position": "bottom"})
    grown.set_size({"width": 760, "height": 340})
    sheet.insert_chart(row + 19, 0, grown)
